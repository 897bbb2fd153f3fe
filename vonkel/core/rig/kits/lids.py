"""Lids: sliders for the upper and the lower lid of one eye, a blink with its closing line, and lids that drift with the gaze."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import asin, radians

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Kit
from ...character.refs import SHAPES
from ...geometry.rotations import matrix_from_quaternion
from ..builder import Builder
from ..frames import compose, dot, frame_about, inverse, rotate
from ..outlines import bud
from ..program import Operation, State, Values
from ..slots import Slot
from .base import KitKind, Options

UPPER, LOWER, UPPER_WIDE, LOWER_WIDE = "upper", "lower", "upper wide", "lower wide"
WIDE = 0.25
"""How far lids open past rest at the most, shares of the opening."""
SHELL = radians(100)
"""How far a slider takes a built lid either way (common practice: 200° of travel over a slider's two units)."""


class LidsOptions(Options):
    follow: float = Field(0.6, ge=0.0, le=1.0)  # how much of the gaze's rise and fall the upper lid goes along with
    follow_lower: float = Field(0.35, ge=0.0, le=1.0)
    opening: float = Field(1.0, gt=0.0, le=3.2)  # the height of the opening, radians about the eye's centre


@dataclass(frozen=True)
class Reach:
    """How far a slider takes a lid at its ends, in openings: past rest when it opens, and when it shuts."""

    wide: float = WIDE
    shut: float = 1.0


FLESH = Reach()


def travels(upper: float, lower: float, blink: float, line: float, reach: Reach = FLESH) -> tuple[float, float]:
    """How far both lids go, from their sliders, the blink and its closing line (0 on the lower edge): each within its reach, together
    at most 1: where they touch they stop, and the one gives way to the other by halves."""
    up = upper * (reach.shut if upper > 0 else reach.wide)
    low = lower * (reach.shut if lower > 0 else reach.wide)
    up += blink * (1.0 - line) * (1.0 - max(up, 0.0))
    low += blink * line * (1.0 - max(low, 0.0))
    return kept_apart(up, low, reach)


def kept_apart(up: float, low: float, reach: Reach = FLESH) -> tuple[float, float]:
    """Both travels within what lids can do."""
    up, low = max(-reach.wide, min(reach.shut, up)), max(-reach.wide, min(reach.shut, low))
    over = up + low - 1.0
    if over > 0.0:
        up, low = up - 0.5 * over, low - 0.5 * over
    return up, low


class LidsKit(KitKind):
    """Lids of flesh are morph targets, built ones are shells on joints of their own; both answer to the same sliders."""

    kind = "lids"
    about = "The lids of one eye: sliders that stop where they touch, a blink, and a drift with the gaze."
    roles = {
        "eye": (1, 1, "the eye's joint"), "upper": (0, 1, "the joint of a built upper lid, at the eye's centre"),
        "lower": (0, 1, "the joint of a built lower lid"),
    }  # fmt: skip
    leans = frozenset({"eye"})
    options = LidsOptions

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        eye = character.joint(kit.joints["eye"][0])
        out = 0.06 * character.size * (1 if eye.place[0] >= 0 else -1)
        place = np.array(eye.place) + [0.6 * out, 0.0, abs(out)]
        channels = (
            Channel(name="blink", low=0.0, high=1.0), Channel(name="line", rest=0.3, low=0.0, high=1.0),
            Channel(name="upper", low=-1.0, high=1.0), Channel(name="lower", low=-1.0, high=1.0),
        )  # fmt: skip
        return [
            Control(
                name=kit.name, kit=kit.name, key="lids", side=kit.side, level="face", place=tuple(map(float, place)),
                channels=channels, outline=bud(0.018 * character.size),
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        joint = builder.character.joint(kit.joints["eye"][0])
        control = builder.mine(kit, "lids")
        parent = builder.parent_slot(joint)
        made = builder.standing(control, parent)
        blink, line, upper, lower = (builder.value(control, n) for n in ("blink", "line", "upper", "lower"))
        at = builder.shapes_of(kit)
        gaze = self._gaze(builder, joint.name, parent)
        drift = float(kit.options["follow"]) / float(kit.options["opening"])
        drift_lower = float(kit.options["follow_lower"]) / float(kit.options["opening"])

        built = bool(kit.joints.get("upper") and kit.joints.get("lower"))
        opening = float(kit.options["opening"])
        reach = Reach(SHELL / opening, SHELL / opening) if built else FLESH
        turns = [
            self._turn(builder, kit.joints[n][0], sign * opening) for n, sign in (("upper", 1), ("lower", -1)) if built
        ]

        def gone(state: State, values: Values) -> tuple[float, float]:
            down = gaze(state)
            up, low = travels(values[upper], values[lower], values[blink], values[line], reach)
            return kept_apart(up + down * drift, low - down * drift_lower, reach) if down else (up, low)

        def shells(state: State, values: Values) -> None:
            for turn, travel in zip(turns, gone(state, values), strict=True):
                turn(state, travel)

        def run(state: State, values: Values) -> None:
            up, low = gone(state, values)
            for word, value in (
                (UPPER, max(up, 0.0)), (LOWER, max(low, 0.0)), (UPPER_WIDE, max(-up, 0.0) / WIDE), (LOWER_WIDE, max(-low, 0.0) / WIDE),
            ):  # fmt: skip
                if word in at:
                    values[at[word]] += value

        words = f"the lids of {joint.name} go as {control.name} says, and with its gaze"
        reads = (Slot.joint(joint.name), *((parent,) if parent else ()))
        if built:
            names = [kit.joints[n][0] for n in ("upper", "lower")]
            above = {s for n in names if (s := builder.parent_slot(builder.character.joint(n)))}
            return [
                *made,
                Operation(
                    words, (*reads, *sorted(above - set(reads))), tuple(map(Slot.joint, names)), shells, (control.name,)
                ),
            ]
        return [*made, Operation(words, reads, (), run, (control.name,), drives=(SHAPES,))]

    @staticmethod
    def _turn(builder: Builder, name: str, by: float) -> Callable[[State, float], None]:
        """What turns a shell by its travel, about the line through the corners: the joint's own x."""
        joint = builder.character.joint(name)
        parent = builder.parent_slot(joint)
        local, out = builder.local(Slot.joint(name), parent), builder.slots[Slot.joint(name)]
        source = builder.slots[parent] if parent else -1
        corners = matrix_from_quaternion(joint.turn)[:, 0]
        axis = (1.0 if corners[0] >= 0 else -1.0, 0.0, 0.0)  # towards the character's left on both sides

        def turn(state: State, travel: float) -> None:
            frame = compose(state[source], local) if source >= 0 else local
            state[out] = compose(frame, frame_about(axis, by * travel))

        return turn

    @staticmethod
    def _gaze(builder: Builder, joint: str, parent: str | None) -> Callable[[State], float]:
        """How far down the eye looks from its rest, radians."""
        eye, rest = builder.slots[Slot.joint(joint)], builder.rest(Slot.joint(joint))
        source = builder.slots[parent] if parent else -1
        sight = rotate(inverse(rest), (0.0, 0.0, 1.0))
        holder = builder.rest(parent) if parent else None
        up = rotate(inverse(holder), (0.0, 1.0, 0.0)) if holder else (0.0, 1.0, 0.0)

        def down(state: State) -> float:
            way = rotate(state[eye], sight)
            if source >= 0:
                way = rotate(inverse(state[source]), way)
            return -asin(max(-1.0, min(1.0, dot(way, up))))

        return down


__all__ = ["LOWER", "LOWER_WIDE", "UPPER", "UPPER_WIDE", "WIDE", "LidsKit", "kept_apart", "travels"]
