"""Two-bone inverse kinematics, in plain floats."""

from __future__ import annotations

from math import exp, sqrt

from .frames import Vec, add, cross, dot, length, scaled, sub, unit


def two_bone(
    root: Vec,
    target: Vec,
    pole: Vec,
    upper: float,
    lower: float,
    stretch: float = 0.0,
    limit: float = 1.5,
    soft: float = 0.0,
) -> tuple[Vec, Vec, Vec, float]:
    """Where the middle joint goes so that the end meets the target.

    root, target, pole: places in metres; upper, lower: bone lengths; stretch (0–1): how far the bones may lengthen
    to meet a target out of reach, by the factor `limit` at most.  By the law of cosines.  soft: the share of the full
    length over which the limb slows down before it is straight, so that neither place nor speed jumps there; with
    stretch the bones make up for what that holds back.
    Returns the middle, the end, the unit normal of the bend plane and the factor the bones were lengthened by.
    The end is short of the target where that is out of reach; with the target on the root the way to the pole
    is taken as the direction.
    """
    way = sub(target, root)
    reach = length(way)
    toward = unit(way) if reach > 1e-9 else unit(sub(pole, root))
    factor = 1.0
    full = upper + lower
    d = min(reach, full)
    if soft > 0.0 and reach > full * (1.0 - soft):
        # From the soft length on the limb nears its full one by the exponential law: d and its first derivative by
        # the reach are continuous.
        room = full * soft
        d = full - room * exp(-(reach - (full - room)) / room)
    if stretch > 0.0 and reach > d:
        factor = min(1.0 + stretch * (reach / d - 1.0), limit)
        upper, lower, d = upper * factor, lower * factor, d * factor
    d = max(d, abs(upper - lower))
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
