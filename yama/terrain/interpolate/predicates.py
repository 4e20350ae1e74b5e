"""Exact signs of two determinants: on which side of a line, inside which circle.

A floating-point filter answers nearly every call; where rounding could flip the sign the determinant
is summed exactly with floating-point expansions. J. R. Shewchuk, "Adaptive Precision Floating-Point
Arithmetic and Fast Robust Geometric Predicates", Discrete & Computational Geometry 18 (1997).
Valid while no product over- or underflows: coordinates and their differences between 1e-70 and 1e70.
"""

from __future__ import annotations

import numpy as np

from yama.terrain.kernels import kernel

_EPSILON = 2.0**-53
_SPLITTER = 2.0**27 + 1.0
_ORIENT_BOUND = (3.0 + 16.0 * _EPSILON) * _EPSILON
_CIRCLE_BOUND = (10.0 + 96.0 * _EPSILON) * _EPSILON


@kernel
def _two_sum(a, b):
    total = a + b
    b_virtual = total - a
    return total, (a - (total - b_virtual)) + (b - b_virtual)


@kernel
def _two_product(a, b):
    product = a * b
    c = _SPLITTER * a
    a_high = c - (c - a)
    a_low = a - a_high
    c = _SPLITTER * b
    b_high = c - (c - b)
    b_low = b - b_high
    return product, a_low * b_low - (((product - a_high * b_high) - a_low * b_high) - a_high * b_low)


@kernel
def _grow(expansion, length, value):
    """Add one number to an expansion in place (room for one more is needed); returns the new length."""
    carry = value
    kept = 0
    for i in range(length):
        carry, tail = _two_sum(carry, expansion[i])
        if tail != 0.0:
            expansion[kept] = tail
            kept += 1
    if carry != 0.0 or kept == 0:
        expansion[kept] = carry
        kept += 1
    return kept


@kernel
def _add_scaled(total, total_length, expansion, length, factor):
    """total += factor * expansion, exactly, in place; returns the new length."""
    for i in range(length):
        product, tail = _two_product(expansion[i], factor)
        if tail != 0.0:
            total_length = _grow(total, total_length, tail)
        total_length = _grow(total, total_length, product)
    return total_length


@kernel
def _orient_exact(ax, ay, bx, by, cx, cy):
    total = np.zeros(16)
    length = 0
    for p, q in ((ax, by), (-bx, ay), (bx, cy), (-cx, by), (cx, ay), (-ax, cy)):
        product, tail = _two_product(p, q)
        length = _grow(total, length, tail)
        length = _grow(total, length, product)
    return total[length - 1]


@kernel
def orient(ax, ay, bx, by, cx, cy):
    """Sign of the area of triangle a, b, c: positive where c lies left of the line from a to b."""
    left = (ax - cx) * (by - cy)
    right = (ay - cy) * (bx - cx)
    value = left - right
    if abs(value) >= _ORIENT_BOUND * (abs(left) + abs(right)):
        if value != 0.0 or (left == 0.0 and right == 0.0 and (ax == cx or by == cy) and (ay == cy or bx == cx)):
            return value
    return _orient_exact(ax, ay, bx, by, cx, cy)


@kernel
def _minor(ax, ay, bx, by, out):
    """The expansion of ax * by - bx * ay in out (room for 4); returns its length."""
    product, tail = _two_product(ax, by)
    length = _grow(out, 0, tail)
    length = _grow(out, length, product)
    product, tail = _two_product(-bx, ay)
    length = _grow(out, length, tail)
    return _grow(out, length, product)


@kernel
def _difference_is_exact(a, b, difference):
    virtual = a - difference
    return (a - (difference + virtual)) + (virtual - b) == 0.0


@kernel
def _circle_from_differences(ax, ay, bx, by, cx, cy):
    """The in-circle determinant of three points relative to the fourth, exactly."""
    total = np.zeros(200)
    minor = np.zeros(5)
    scaled = np.zeros(20)
    length = 0
    for px, py, qx, qy, rx, ry in (
        (ax, ay, bx, by, cx, cy),
        (bx, by, cx, cy, ax, ay),
        (cx, cy, ax, ay, bx, by),
    ):
        minor_length = _minor(qx, qy, rx, ry, minor)
        for value in (px, py):
            scaled_length = _add_scaled(scaled, 0, minor, minor_length, value)
            length = _add_scaled(total, length, scaled, scaled_length, value)
    return total[length - 1] if length else 0.0


@kernel
def _circle_from_points(ax, ay, bx, by, cx, cy, dx, dy):
    """The in-circle determinant of four points, exactly, from the coordinates themselves."""
    total = np.zeros(1200)
    minors = np.zeros(20)
    step = np.zeros(5)
    scaled = np.zeros(60)
    length = 0
    # Rows p of the 4 x 4 determinant, expanded along the lifted column: sign * |p|^2 * (sum of 3 minors).
    for sign, px, py, qx, qy, rx, ry, sx, sy in (
        (1.0, ax, ay, bx, by, cx, cy, dx, dy),
        (-1.0, bx, by, cx, cy, dx, dy, ax, ay),
        (1.0, cx, cy, dx, dy, ax, ay, bx, by),
        (-1.0, dx, dy, ax, ay, bx, by, cx, cy),
    ):
        minors_length = 0
        for ux, uy, vx, vy in ((qx, qy, rx, ry), (rx, ry, sx, sy), (sx, sy, qx, qy)):
            step_length = _minor(ux, uy, vx, vy, step)
            for i in range(step_length):
                minors_length = _grow(minors, minors_length, step[i])
        for value in (px, py):
            scaled_length = _add_scaled(scaled, 0, minors, minors_length, value)
            length = _add_scaled(total, length, scaled, scaled_length, sign * value)
    return total[length - 1] if length else 0.0


@kernel
def in_circle(ax, ay, bx, by, cx, cy, dx, dy):
    """Positive where d lies inside the circle through a, b, c (given anticlockwise); 0 on it."""
    adx = ax - dx
    ady = ay - dy
    bdx = bx - dx
    bdy = by - dy
    cdx = cx - dx
    cdy = cy - dy
    bc1 = bdx * cdy
    bc2 = cdx * bdy
    ca1 = cdx * ady
    ca2 = adx * cdy
    ab1 = adx * bdy
    ab2 = bdx * ady
    a_lift = adx * adx + ady * ady
    b_lift = bdx * bdx + bdy * bdy
    c_lift = cdx * cdx + cdy * cdy
    value = a_lift * (bc1 - bc2) + b_lift * (ca1 - ca2) + c_lift * (ab1 - ab2)
    size = (abs(bc1) + abs(bc2)) * a_lift + (abs(ca1) + abs(ca2)) * b_lift + (abs(ab1) + abs(ab2)) * c_lift
    if abs(value) > _CIRCLE_BOUND * size:
        return value
    return _in_circle_exact(ax, ay, bx, by, cx, cy, dx, dy, adx, ady, bdx, bdy, cdx, cdy, size)


@kernel
def _in_circle_exact(ax, ay, bx, by, cx, cy, dx, dy, adx, ady, bdx, bdy, cdx, cdy, size):
    if (
        _difference_is_exact(ax, dx, adx)
        and _difference_is_exact(ay, dy, ady)
        and _difference_is_exact(bx, dx, bdx)
        and _difference_is_exact(by, dy, bdy)
        and _difference_is_exact(cx, dx, cdx)
        and _difference_is_exact(cy, dy, cdy)
    ):
        if size < 9e15 and (
            adx == np.rint(adx)
            and ady == np.rint(ady)
            and bdx == np.rint(bdx)
            and bdy == np.rint(bdy)
            and cdx == np.rint(cdx)
            and cdy == np.rint(cdy)
        ):  # whole numbers whose every partial sum is below 2**53: plain arithmetic is exact
            return (
                (adx * adx + ady * ady) * (bdx * cdy - cdx * bdy)
                + (bdx * bdx + bdy * bdy) * (cdx * ady - adx * cdy)
                + (cdx * cdx + cdy * cdy) * (adx * bdy - bdx * ady)
            )
        return _circle_from_differences(adx, ady, bdx, bdy, cdx, cdy)
    return _circle_from_points(ax, ay, bx, by, cx, cy, dx, dy)
