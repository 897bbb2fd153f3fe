"""Two-bone inverse kinematics, in plain floats."""

from __future__ import annotations

from math import sqrt

from .frames import Vec, add, cross, dot, length, scaled, sub, unit


def two_bone(
    root: Vec, target: Vec, pole: Vec, upper: float, lower: float, stretch: float = 0.0, limit: float = 1.5
) -> tuple[Vec, Vec, Vec, float]:
    """Where the middle joint goes so that the end meets the target.

    root, target, pole: places in metres; upper, lower: bone lengths; stretch (0–1): how far the bones may lengthen
    to meet a target out of reach, by the factor `limit` at most.  By the law of cosines.
    Returns the middle, the end, the unit normal of the bend plane and the factor the bones were lengthened by.
    The end is short of the target where that is out of reach; with the target on the root the way to the pole
    is taken as the direction.
    """
    way = sub(target, root)
    reach = length(way)
    toward = unit(way) if reach > 1e-9 else unit(sub(pole, root))
    factor = 1.0
    full = upper + lower
    if reach > full and stretch > 0.0:
        factor = min(1.0 + stretch * (reach / full - 1.0), limit)
        upper, lower, full = upper * factor, lower * factor, full * factor
    d = min(max(reach, abs(upper - lower)), full)
    out = sub(pole, root)
    side = add(out, toward, -dot(out, toward))
    if length(side) < 1e-9:  # the pole lies on the line: any plane will do, but always the same one
        other = (0.0, 0.0, 1.0) if abs(toward[2]) < 0.9 else (1.0, 0.0, 0.0)
        side = add(other, toward, -dot(other, toward))
    side = unit(side)
    along = (upper * upper - lower * lower + d * d) / (2.0 * d) if d > 1e-9 else 0.0
    off = sqrt(max(upper * upper - along * along, 0.0))
    middle = add(add(root, toward, along), side, off)
    end = add(root, scaled(toward, d))
    return middle, end, cross(toward, side), factor
