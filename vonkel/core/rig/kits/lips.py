"""Lips: sliders that press them, take the lower one under the teeth, and spread or purse the mouth."""

from __future__ import annotations

import numpy as np

from ...character import Channel, Character, Control, Kit
from ...character.refs import SHAPES
from ..builder import Builder
from ..outlines import bud
from ..program import Operation, State, Values
from .base import KitKind
from .led import tip_of

PRESS, UNDER, SPREAD, PURSE = "press", "under teeth", "spread", "purse"
"""The kit's words for its shapes; the slider `spread` plays `purse` below zero."""


class LipsKit(KitKind):
    kind = "lips"
    about = "Sliders for lips that press, a lower lip under the teeth, and a mouth that spreads or purses."
    roles = {"jaw": (1, 1, "the jaw's joint")}
    leans = frozenset({"jaw"})

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joint = character.joint(kit.joints["jaw"][0])
        place = tip_of(character, joint) + np.array([0.0, 0.055, 0.05]) * character.size
        channels = (
            Channel(name=PRESS, low=0.0, high=1.0), Channel(name=UNDER, low=0.0, high=1.0),
            Channel(name=SPREAD, low=-1.0, high=1.0),
        )  # fmt: skip
        return [
            Control(
                name=kit.name, kit=kit.name, key="lips", level="face", place=tuple(map(float, place)), channels=channels,
                outline=bud(0.02 * character.size),
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        joint = builder.character.joint(kit.joints["jaw"][0])
        control = builder.mine(kit, "lips")
        parent = builder.parent_slot(joint)
        press, under, spread = (builder.value(control, n) for n in (PRESS, UNDER, SPREAD))
        at = builder.shapes_of(kit)

        def run(state: State, values: Values) -> None:
            wide = values[spread]
            for word, value in (
                (PRESS, values[press]), (UNDER, values[under]), (SPREAD, max(wide, 0.0)), (PURSE, max(-wide, 0.0)),
            ):  # fmt: skip
                if word in at:
                    values[at[word]] += value

        words = f"lips press, tuck and spread as {control.name} says"
        return [*builder.standing(control, parent), Operation(words, (), (), run, (control.name,), drives=(SHAPES,))]


__all__ = ["PRESS", "PURSE", "SPREAD", "UNDER", "LipsKit"]
