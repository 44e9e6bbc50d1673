"""Passes over the constraints of soft bodies: what each keeps of the last, and why one comes to the right stretch.

**Memory.** A constraint C of compliance α is projected by the multiplier (Macklin, Müller,
Chentanez 2016, eq. 18)

    Δλ = -(C + α̃ λ) / (α̃ + W),   α̃ = α/dt²,   W = Σ w |∇C|²,

with λ the sum over the passes of the substep. With it, more passes come nearer to the same
implicit step, and never make anything stiffer than it is.

**The bias of one pass, and its cure.** At rest every substep's last pass lays on the same Δλ again. In
it a constraint that is visited sees the others half before and half after their own push: of
two that share a point, one is visited first. At rest all pushes on a point, and its weight,
cancel. So after its own visit a constraint is relaxed by W Δλ, and those that come after it undo,
summed over all constraints, half of that. What is left when the pass ends is

    C = -(α̃ λ + ½ W Δλ):

a cloth hangs too long by the share W dt² / (2 α) of its stretch, which grows in proportion to its
points (measured: 3.5 times its stretch at 1,681 points, 25 times at 10,201). So the projection
divides by

    α̃ + W - min(½ W, α̃)

instead, and the bias is gone wherever α̃ > ½ W. The divisor is never below W, hence no
constraint is ever pushed beyond its goal, and stiff ones are projected as before. It costs one
subtraction. (Our own derivation; it is successive over-relaxation with a factor of its own for
every constraint, Young 1954.) For tetrahedra α̃ and W are matrices; see `solidity`.

**What is left.** After the last substep of a frame one more pass is made on a copy. The farthest
it would still move a point is the frame's residual, in metres.
"""

from __future__ import annotations

from zembrik.core.compiled import kernel


@kernel
def farthest(x, other):  # type: ignore[no-untyped-def]
    """Return the longest way (m) between places (n, 3) and others (n, 3)."""
    most = 0.0
    for i in range(len(x)):
        way = (x[i, 0] - other[i, 0]) ** 2 + (x[i, 1] - other[i, 1]) ** 2 + (x[i, 2] - other[i, 2]) ** 2
        most = max(most, way)
    return most**0.5
