"""How fast this machine is today: the prototype that shared figures were measured with, run again.

Distance constraints of a 101 × 101 grid (60,000 of them, with diagonals two apart), by XPBD, colour by colour, in
double precision on 2 threads. It took 0.85 ms a pass where the aims of speed were set. All other figures here are to
be read against today's.
"""

import time

import numba
import numpy as np

REFERENCE_MS = 0.85


@numba.njit(parallel=True, error_model="numpy")
def _sweep(x, w, pairs, rest, colours, alpha):
    for c in range(len(colours) - 1):
        for k in numba.prange(colours[c], colours[c + 1]):
            i, j = pairs[k, 0], pairs[k, 1]
            dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
            size = (dx * dx + dy * dy + dz * dz) ** 0.5
            push = (size - rest[k]) / ((w[i] + w[j] + alpha) * size)
            x[i, 0] += w[i] * push * dx
            x[i, 1] += w[i] * push * dy
            x[i, 2] += w[i] * push * dz
            x[j, 0] -= w[j] * push * dx
            x[j, 1] -= w[j] * push * dy
            x[j, 2] -= w[j] * push * dz


def pass_ms(side: int = 101) -> float:
    """Return the milliseconds a pass takes, the median of 200."""
    at = np.arange(side * side).reshape(side, side)
    groups = []
    for di, dj in ((0, 1), (1, 0), (1, 1), (1, -1), (0, 2), (2, 0)):
        for parity in range(2):
            i, j = np.meshgrid(np.arange(side), np.arange(side), indexing="ij")
            step = i if di else j
            mine = (step // max(di, abs(dj) if not di else 1) % 2 == parity) & (i + di < side)
            mine &= (j + dj < side) & (j + dj >= 0)
            groups.append(np.stack([at[i[mine], j[mine]], at[i[mine] + di, j[mine] + dj]], axis=1))
    pairs = np.concatenate(groups)
    colours = np.concatenate([[0], np.cumsum([len(g) for g in groups])])
    x = np.stack([*np.meshgrid(np.arange(side), np.arange(side), indexing="ij"), np.zeros((side, side))], -1) * 0.02
    x = x.reshape(-1, 3)
    rest = np.linalg.norm(x[pairs[:, 0]] - x[pairs[:, 1]], axis=1)
    w, times = np.ones(len(x)), []
    for _ in range(201):
        start = time.perf_counter()
        _sweep(x, w, pairs, rest, colours, 0.1)
        times.append(time.perf_counter() - start)
    return float(np.median(times[1:]) * 1e3)


def say() -> None:
    """Print today's speed against the reference."""
    now = pass_ms()
    print(f"yardstick: {now:.2f} ms a pass, {now / REFERENCE_MS:.1f} times the reference's {REFERENCE_MS} ms")


if __name__ == "__main__":
    say()
