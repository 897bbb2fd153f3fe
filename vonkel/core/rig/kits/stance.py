"""Stance: feet that stand in the world push the body; the body's own control still moves it on top."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Kit
from ...errors import BadParameters
from ..builder import Builder
from ..frames import IDENTITY, Frame, compose, inverse, place_of, slerp, with_place
from ..outlines import ring
from ..program import Operation, State, Values
from ..slots import Slot
from ..wholebody import LegTree, pushed
from .base import KitKind, Options, gives
from .limb import limb_joints


class StanceOptions(Options):
    body_cost: float = Field(
        0.5, gt=0.001, le=1000, description="how dear moving the body is, against turning a leg's joint"
    )
    turn_cost: float = Field(0.5, gt=0.001, le=1000, description="how dear turning the body is")


class Stance(KitKind):
    kind = "stance"
    provides = frozenset({"unsided"})
    about = "Any number of feet push the body by one solve of body and legs together; the body stays movable on top."
    roles = {
        "trunk": (1, 1, "the joint that a body or single control holds"),
        "feet": (1, 40, "the joints that the legs' targets hold"),
    }
    options = StanceOptions
    leans = frozenset({"trunk", "feet"})

    def _legs(self, character: Character, kit: Kit) -> list[Kit]:
        by_end = {k.joints["end"][0]: k for k in character.kits if gives(k, "goal")}
        missing = [n for n in kit.joints["feet"] if n not in by_end]
        if missing:
            raise BadParameters(f"No limb ends in {missing[0]}.", kit.name, "Put legs on first.")
        return [by_end[n] for n in kit.joints["feet"]]

    def _body(self, character: Character, kit: Kit) -> Control:
        trunk = kit.joints["trunk"][0]
        for k in character.kits:
            if gives(k, "trunk") and trunk in (k.joints.get("hips", ()) + k.joints.get("joint", ())):
                return next(c for c in character.controls if c.kit == k.name and c.key in ("body", "single"))
        raise BadParameters(f"No body or single kit holds {trunk}.", kit.name, "Put one on first.")

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        self._legs(character, kit)
        self._body(character, kit)

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        body = self._body(character, kit)
        push = (Channel(name="push", rest=1.0, low=0.0, high=1.0), Channel(name="level", rest=0.0, low=0.0, high=1.0))
        low = float(character.points[:, 1].min()) if len(character.points) else 0.0
        place = (body.place[0], low, body.place[2])
        return [
            Control(
                name="stance",
                kit=kit.name,
                key="stance",
                place=place,
                channels=push,
                outline=ring(0.2 * character.size),
            )
        ]

    def stands(self, builder: Builder, kit: Kit) -> set[str]:
        return {self._body(builder.character, kit).name}

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        character = builder.character
        body, control = self._body(character, kit), builder.mine(kit, "stance")
        legs = self._legs(character, kit)
        tree = leg_tree(character, kit, legs)
        slot = builder.stand_slot(body.name)
        out, rest = builder.slots[slot], builder.rest(slot)
        back = inverse(rest)
        goals = [builder.slots[Slot.goal(k.name)] for k in legs]
        start = tree.feet
        push, level = builder.value(control, "push"), builder.value(control, "level")

        def run(state: State, values: Values) -> None:
            share = values[push]
            if share <= 0.0:
                return
            stood = state[out]
            carried = compose(stood, back)  # how the whole figure has gone: the solve knows nothing of that
            home = inverse(carried)
            wanted = np.array([place_of(compose(home, state[g])) for g in goals])
            if np.abs(wanted - start).max() < 1e-12:
                return
            m = pushed(tree, wanted)
            went: Frame = tuple(float(v) for v in m.ravel())
            if share < 1.0 or values[level] > 0.0:
                turn = slerp(IDENTITY, went, share * (1.0 - values[level]))
                was = place_of(rest)
                now = place_of(compose(went, rest))
                at = tuple(a + share * (b - a) for a, b in zip(was, now, strict=True))
                state[out] = compose(carried, with_place(compose(turn, rest), at))  # type: ignore[arg-type]
            else:
                state[out] = compose(carried, compose(went, rest))

        reads = tuple(Slot.goal(k.name) for k in legs)
        return [
            *builder.standing(control, builder.world()),
            Operation(f"{len(legs)} feet push {body.name}", reads, (slot,), run, (control.name,), amends=(slot,)),
        ]


def leg_tree(character: Character, kit: Kit, legs: list[Kit]) -> LegTree:
    """The legs as the solve sees them: a first joint free about three axes, the others hinged in the leg's own plane."""
    trunk = np.array(character.joint(kit.joints["trunk"][0]).place)
    joints: list[np.ndarray] = []
    feet, starts, of_joint, axes, costs = [], [0], [], [], []
    for leg in legs:
        names = limb_joints(leg)
        places = [np.array(character.joint(n).place) for n in names]
        normal = np.zeros(3)
        for a, b, c in zip(places, places[1:], places[2:], strict=False):
            normal = normal + np.cross(b - a, c - b)
        if np.linalg.norm(normal) < 1e-9:
            normal = np.cross(places[-1] - places[0], [0.0, 1.0, 0.0])
        size = float(np.linalg.norm(normal))
        normal = normal / size if size > 1e-12 else np.array([1.0, 0.0, 0.0])
        for i, n in enumerate(names[:-1]):
            freedom = character.joint(n).freedom
            stiff = 1.0 + 9.0 * (freedom.stiffness if freedom else 0.0)
            for axis in np.eye(3) if i == 0 else [normal]:
                of_joint.append(len(joints))
                axes.append(axis)
                costs.append(stiff)
            joints.append(places[i])
        feet.append(places[-1])
        starts.append(len(joints))
    sizes = float(np.mean([np.linalg.norm(f - joints[s]) for f, s in zip(feet, starts, strict=False)]))
    body = [float(kit.options["body_cost"]) / sizes**2] * 3 + [float(kit.options["turn_cost"])] * 3
    return LegTree(
        trunk, np.array(joints), np.array(feet), np.array(starts), np.array(of_joint), np.array(axes),
        np.array(body + costs),
    )  # fmt: skip
