"""The closest point of a triangle."""

from __future__ import annotations

from zembrik.core.compiled import kernel

# Which part of the triangle is closest: its corners, its edges (k to k + 1), or its inside.
CORNER_0, CORNER_1, CORNER_2, EDGE_0, EDGE_1, EDGE_2, INSIDE = range(7)


@kernel
def closest_on_triangle(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz):  # type: ignore[no-untyped-def]
    """Return (u, v, w, part): weights of the corners a, b, c of the point closest to p, and where it lies.

    Twelve numbers rather than four arrays: taking a row out of an array costs a kernel more than all this does.

    Voronoi regions of the triangle, after Ericson, Real-Time Collision Detection (2005), 5.1.5.
    """
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    apx, apy, apz = px - ax, py - ay, pz - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0.0 and d2 <= 0.0:
        return 1.0, 0.0, 0.0, 0
    bpx, bpy, bpz = px - bx, py - by, pz - bz
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0.0 and d4 <= d3:
        return 0.0, 1.0, 0.0, 1
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        t = d1 / (d1 - d3)
        return 1.0 - t, t, 0.0, 3
    cpx, cpy, cpz = px - cx, py - cy, pz - cz
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 0.0, 1.0, 2
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        t = d2 / (d2 - d6)
        return 1.0 - t, 0.0, t, 5
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and (d4 - d3) >= 0.0 and (d5 - d6) >= 0.0:
        t = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 0.0, 1.0 - t, t, 4
    scale = 1.0 / (va + vb + vc)
    v = vb * scale
    w = vc * scale
    return 1.0 - v - w, v, w, 6
