"""Inverse kinematics of limbs, in plain floats: two bones by the law of cosines, more by folding the whole chain."""

from __future__ import annotations

from bisect import bisect_left
from math import acos, atan, exp, sqrt, tan

from .frames import (
    IDENTITY,
    Frame,
    Vec,
    add,
    axes_frame,
    compose,
    cross,
    dot,
    frame_about,
    inverse,
    length,
    place_of,
    rotate,
    scaled,
    sub,
    unit,
    with_place,
)

ROUNDED_OFF = 2e-14  # of the numbers that were added: what a length may be off after a few sums


def softened(reach: float, full: float, soft: float) -> float:
    """How long a limb becomes for a target `reach` away, `full` being its whole length.

    From the soft length on it nears its full one by the exponential law, so that neither it nor its first derivative
    jumps where the target goes out of reach.
    """
    if soft > 0.0 and reach > full * (1.0 - soft):
        room = full * soft
        return full - room * exp(-(reach - (full - room)) / room)
    return min(reach, full)


def pole_side(root: Vec, toward: Vec, pole: Vec) -> Vec:
    """Unit direction off the line from `root` along `toward` on which the pole lies; always the same one if it lies on it."""
    out = sub(pole, root)
    side = add(out, toward, -dot(out, toward))
    if length(side) < 1e-9:
        other = (0.0, 0.0, 1.0) if abs(toward[2]) < 0.9 else (1.0, 0.0, 0.0)
        side = add(other, toward, -dot(other, toward))
    return unit(side)


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
    d = softened(reach, upper + lower, soft)
    if stretch > 0.0 and reach > d:
        factor = min(1.0 + stretch * (reach / d - 1.0), limit)
        upper, lower, d = upper * factor, lower * factor, d * factor
    d = max(d, abs(upper - lower))
    side = pole_side(root, toward, pole)
    along = (upper * upper - lower * lower + d * d) / (2.0 * d) if d > 1e-9 else 0.0
    # The root of a rounding error is seven digits larger: what is straight but for that is straight.
    rounded = ROUNDED_OFF * (upper + lower + max(map(abs, (*root, *target))))
    off = sqrt(max(upper * upper - along * along, 0.0)) if upper + lower - d > rounded else 0.0
    middle = add(add(root, toward, along), side, off)
    end = add(root, scaled(toward, d))
    return middle, end, cross(toward, side), factor


class FoldingChain:
    """A limb of any number of bones that folds as it is bent at rest: all its bends grow or shrink by one factor.

    It is the tangent of half of each bend that grows, so that none goes past folding back on itself.

    The factor at which the chain is as long as wanted is found on its falling side, from straight (0) on; so there is
    one answer for each length, it changes smoothly, and at rest it is the rest.  A dead-straight chain bends evenly
    about the normal of its bend plane.
    """

    def __init__(self, points: list[Vec], pole: Vec) -> None:
        """points: (n + 1) places at rest, metres, root first; pole: where its bend guide is at rest."""
        self.lengths = [length(sub(b, a)) for a, b in zip(points, points[1:], strict=False)]
        self.full = sum(self.lengths)
        toward = unit(sub(points[-1], points[0]))
        ways = [unit(sub(b, a)) for a, b in zip(points, points[1:], strict=False)]
        first = ways[0]
        normal = unit(cross(toward, pole_side(points[0], toward, pole)))
        across = unit(add(normal, first, -dot(normal, first)))
        frame = axes_frame(first, cross(across, first), across)  # the chain's own axes at rest: x down the first bone
        self.normal = rotate(inverse(frame), normal)  # of the plane through root, end and pole at rest
        self.bends: list[tuple[Vec, float]] = []
        for way in ways[1:]:
            x, y, z = rotate(inverse(frame), way)
            angle = acos(max(-1.0, min(1.0, x)))
            axis = unit((0.0, -z, y)) if angle > 1e-7 else (0.0, 0.0, -1.0)
            self.bends.append((axis, angle))
            frame = compose(frame, frame_about(axis, angle))
        self.rest = 1.0
        if sum(angle for _, angle in self.bends) < 1e-3:
            self.bends = [((0.0, 0.0, -1.0), 1.0) for _ in self.bends]
            self.rest = 0.0
        self.bends = [(axis, tan(min(angle, 3.1) / 2)) for axis, angle in self.bends]
        self.factors, self.reaches = [0.0], [self.full]
        for k in range(1, 128):
            factor = k / (128 - k)
            reach = length(self.folded(factor)[0][-1])
            if reach > self.reaches[-1]:
                break
            self.factors.append(factor)
            self.reaches.append(reach)
        self._down = [-r for r in self.reaches]
        self._reach_at_rest = length(self.folded(self.rest)[0][-1])

    def folded(self, factor: float) -> tuple[list[Vec], list[Frame]]:
        """Points (the root at zero) and bone frames in the chain's own axes, every bend grown by `factor`."""
        frame, place = IDENTITY, (0.0, 0.0, 0.0)
        points, frames = [place], [frame]
        for i, size in enumerate(self.lengths):
            if i:
                axis, half = self.bends[i - 1]
                frame = compose(frame, frame_about(axis, 2.0 * atan(factor * half)))
                frames.append(frame)
            place = (place[0] + size * frame[0], place[1] + size * frame[4], place[2] + size * frame[8])
            points.append(place)
        return points, frames

    def factor_for(self, reach: float) -> float:
        """The factor at which the chain's ends lie `reach` apart; the nearest there is where none does."""
        if abs(reach - self._reach_at_rest) < 1e-14 * self.full:
            return self.rest
        if reach >= self.full:
            return 0.0
        if reach <= self.reaches[-1]:
            return self.factors[-1]
        k = max(bisect_left(self._down, -reach), 1)
        low, high = self.factors[k - 1], self.factors[k]
        over, under = self.reaches[k - 1] - reach, self.reaches[k] - reach
        # Regula falsi with the Illinois change: keeps the bracket, and nearly doubles the digits each time.
        last = 0
        middle = low
        for _ in range(60):
            middle = high - under * (high - low) / (under - over)
            miss = length(self.folded(middle)[0][-1]) - reach
            if abs(miss) < 1e-14 * self.full:
                break
            if miss > 0:
                low, over = middle, miss
                if last == 1:
                    under *= 0.5
                last = 1
            else:
                high, under = middle, miss
                if last == -1:
                    over *= 0.5
                last = -1
        return middle

    def solve(
        self, root: Vec, target: Vec, pole: Vec, stretch: float = 0.0, limit: float = 1.5, soft: float = 0.0
    ) -> tuple[list[Vec], list[Frame], Vec, float]:
        """Points and bone frames (x down the bone) that meet the target, the bend's normal, and the bones' factor.

        As `two_bone`: short of the target where it is out of reach, softened and stretched as asked.
        """
        way = sub(target, root)
        reach = length(way)
        toward = unit(way) if reach > 1e-9 else unit(sub(pole, root))
        d = softened(reach, self.full, soft)
        longer = 1.0
        if stretch > 0.0 and reach > d:
            longer = min(1.0 + stretch * (reach / d - 1.0), limit)
        points, frames = self.folded(self.factor_for(d))
        side = pole_side(root, toward, pole)
        normal = cross(toward, side)
        x = unit(points[-1]) if length(points[-1]) > 1e-9 else (1.0, 0.0, 0.0)
        z = unit(add(self.normal, x, -dot(self.normal, x)))
        turn = compose(axes_frame(toward, side, normal), inverse(axes_frame(x, cross(z, x), z)))
        placed = [add(root, rotate(turn, p), longer) for p in points]
        return placed, [with_place(compose(turn, f), q) for f, q in zip(frames, placed, strict=False)], normal, longer


def bent_back(points: list[Vec], normal: Vec, angle: float) -> Vec:
    """Where the joint before the end goes when the last bone turns about the end, by `angle` about `normal`."""
    end = points[-1]
    return place_of(compose(with_place(frame_about(normal, angle), end), with_place(IDENTITY, sub(points[-2], end))))
