"""Foot: a leg's foot rolls over heel, ball and toe tip, banks on its edges, and turns about them."""

from __future__ import annotations

from math import radians

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Joint, Kit, without_side
from ...character.hierarchy import descendants
from ...errors import BadParameters
from ..builder import Builder
from ..frames import (
    Frame,
    Vec,
    apply,
    compose,
    cross,
    frame_about,
    inverse,
    place_of,
    rotate,
    sub,
    unit,
    with_place,
)
from ..outlines import outline_of
from ..program import Operation, State, Values
from ..slots import Slot
from .base import KitKind, Options, gives, tagged

UP: Vec = (0.0, 1.0, 0.0)
CHANNELS = tuple(
    Channel(name=n, kind="turn", low=low, high=high)
    for n, low, high in (
        ("roll", -1.2, 2.1), ("toe lift", -1.0, 1.2), ("twist", -1.6, 1.6), ("heel twist", -1.6, 1.6),
        ("tip twist", -1.6, 1.6), ("bank", -1.2, 1.2),
    )
)  # fmt: skip


class FootOptions(Options):
    ball_angle: float = Field(45.0, gt=0, le=90, description="degrees of roll over the ball, before the toe tip lifts")
    straight_angle: float = Field(75.0, gt=0, le=150, description="degrees of roll at which the ball is straight again")


class Foot(KitKind):
    kind = "foot"
    provides = frozenset({"roll"})
    about = "One roll from heel over ball to toe tip, with set angles; toe lift, twists and bank, about points on the ground."
    roles = {
        "foot": (1, 1, "the joint that the leg's target holds"),
        "ball": (0, 1, "the joint of the toes"),
    }
    options = FootOptions
    leans = frozenset({"foot"})

    @staticmethod
    def leg(character: Character, kit: Kit) -> Kit:
        """The limb that ends in this foot.  Raises BadParameters where there is none."""
        foot = kit.joints["foot"][0]
        for k in character.kits:
            if gives(k, "goal") and k.joints["end"] == (foot,):
                return k
        raise BadParameters(f"No limb ends in {foot}.", kit.name, "Put a leg on first.")

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        self.leg(character, kit)
        ball = kit.joints.get("ball", ())
        if ball and character.joint(ball[0]).parent != kit.joints["foot"][0]:
            raise BadParameters(f"{ball[0]} must hang from {kit.joints['foot'][0]}.", kit.name, "Choose its child.")

    def places(self, character: Character, kit: Kit) -> dict[str, Vec]:
        """Heel, toe tip, inner and outer edge where the foot's own flesh meets the ground, and the ball above it."""
        foot = character.joint(kit.joints["foot"][0])
        ankle = np.array(foot.place)
        below = _below(character, foot.name)
        tip = max(
            (np.array(j.place) for j in below),
            key=lambda p: float(np.linalg.norm((p - ankle)[[0, 2]])),
            default=ankle + [0, 0, 0.1],
        )
        ball = (
            np.array(character.joint(kit.joints["ball"][0]).place)
            if kit.joints.get("ball")
            else ankle + 0.6 * (tip - ankle)
        )
        ahead = (tip - ankle) * [1, 0, 1]
        long = float(np.linalg.norm(ahead))
        ahead = ahead / long if long > 1e-9 else np.array([0.0, 0.0, 1.0])
        across = np.cross([0.0, 1.0, 0.0], ahead)
        points = _flesh(character, ankle, tip, long)
        ground = float(points[:, 1].min()) if len(points) else float(min(ankle[1], tip[1], ball[1]))
        if len(points):
            low = points[points[:, 1] < ground + 0.35 * max(ankle[1] - ground, 1e-6)]
        else:
            low = np.array([ankle, tip])
        along, aside = (low - ankle) @ ahead, (low - ankle) @ across
        near = np.abs(along - (ball - ankle) @ ahead) < 0.25 * max(long, 1e-9)
        aside = aside[near] if near.any() else aside

        def on_ground(p: np.ndarray) -> Vec:
            return (float(p[0]), ground, float(p[2]))

        middle = ankle + ahead * float((ball - ankle) @ ahead)
        sign = 1.0 if kit.side != "R" else -1.0  # outer is away from the body
        edges = sorted((float(aside.min()), float(aside.max())), key=lambda a: sign * a)
        straight = float((tip - ankle) @ across)
        return {
            "heel": on_ground(ankle + ahead * float(along.min())),
            "tip": on_ground(ankle + ahead * float(along.max()) + across * straight),
            "inner": on_ground(middle + across * edges[0]),
            "outer": on_ground(middle + across * edges[1]),
            "ball": on_ground(ball),
        }

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        places = {n: np.array(p) for n, p in kit.places.items()}
        heel, tip = places["heel"], places["tip"]
        middle, half = 0.5 * (heel + tip), 0.58 * (tip - heel)
        wide = 0.62 * (places["outer"] - places["inner"])
        angle = np.linspace(0, 2 * np.pi, 33)[:-1]
        # Rounder in front than behind, so that one sees which way the foot goes.
        line = np.cos(angle)[:, None] * half + np.sin(angle)[:, None] * wide * (1 + 0.18 * np.cos(angle))[:, None]
        outline = outline_of(line)
        name = tagged(f"{_stem(kit)} roll", kit)
        return [
            Control(
                name=name, kit=kit.name, key="roll", side=kit.side, place=tuple(map(float, middle)), channels=CHANNELS,
                outline=outline,
            )
        ]  # fmt: skip

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        character = builder.character
        leg = self.leg(character, kit)
        target = builder.mine(leg, "target")
        control = builder.mine(kit, "roll")
        foot = kit.joints["foot"][0]
        rest = builder.rest(Slot.control(target.name))
        back = inverse(rest)
        at = {n: apply(back, p) for n, p in kit.places.items()}
        ahead = unit(tuple(a * b for a, b in zip(sub(kit.places["tip"], kit.places["heel"]), (1, 0, 1), strict=True)))  # type: ignore[arg-type]
        away = rotate(back, ahead)
        up = rotate(back, UP)
        side = cross(up, away)
        sign = -1.0 if kit.side == "R" else 1.0
        values_at = {c.name: builder.value(control, c.name) for c in CHANNELS}
        most, straight = (radians(float(kit.options[o])) for o in ("ball_angle", "straight_angle"))
        straight = max(straight, most + 1e-3)
        goal_name = Slot.goal(leg.name)
        goal, held = builder.slots[goal_name], builder.slots[Slot.control(target.name)]
        end_local = builder.local(Slot.joint(foot), Slot.control(target.name))

        def planted(values: Values) -> tuple[Frame, Frame]:
            """How the toes and how the rest of the foot have gone, in the target's frame."""
            roll = values[values_at["roll"]]
            on_heel = min(roll, 0.0)
            on_tip = max(roll - most, 0.0)
            on_ball = min(max(roll, 0.0), most) * (1.0 - min(on_tip / (straight - most), 1.0))
            bank = values[values_at["bank"]]
            m = _about(
                at["heel"], compose(frame_about(up, sign * values[values_at["heel twist"]]), frame_about(side, on_heel))
            )
            m = compose(
                m,
                _about(
                    at["tip"],
                    compose(frame_about(up, sign * values[values_at["tip twist"]]), frame_about(side, on_tip)),
                ),
            )
            if bank:
                edge = at["outer"] if bank > 0 else at["inner"]
                m = compose(m, _about(edge, frame_about(away, -sign * bank)))
            m = compose(m, _about(at["ball"], frame_about(up, sign * values[values_at["twist"]])))
            return m, compose(m, _about(at["ball"], frame_about(side, on_ball)))

        every = list(values_at.values())
        went = Slot.rolled(kit.name)
        went_slot = builder.new_slot(went, None)

        def lift(state: State, values: Values) -> None:
            if not any(values[i] for i in every):
                state[went_slot] = None
                return
            state[went_slot] = planted(values)
            foot_went = state[went_slot][1]
            state[goal] = compose(compose(state[held], foot_went), end_local)

        reads = (Slot.control(target.name),)
        made = [
            *builder.standing(control, Slot.control(target.name)),
            Operation(
                f"{control.name} rolls {foot}", reads, (goal_name, went), lift, (control.name,), amends=(goal_name,)
            ),
        ]
        if not kit.joints.get("ball"):
            return made
        ball = kit.joints["ball"][0]
        out, foot_slot = builder.slots[Slot.joint(ball)], builder.slots[Slot.joint(foot)]
        ball_local = builder.local(Slot.joint(ball), Slot.control(target.name))
        ball_rest = builder.local(Slot.joint(ball), Slot.joint(foot))
        hinge = place_of(ball_local)

        def toes(state: State, values: Values) -> None:
            if state[went_slot] is None:
                state[out] = compose(state[foot_slot], ball_rest)
                return
            toes_went, foot_went = state[went_slot]
            lifted = _about(hinge, frame_about(side, -values[values_at["toe lift"]]))
            # The toes lie where they were planted, but hang from the ball joint, which goes with the foot.
            own = compose(inverse(compose(foot_went, end_local)), compose(compose(toes_went, lifted), ball_local))
            state[out] = compose(state[foot_slot], with_place(own, place_of(ball_rest)))

        made.append(
            Operation(
                f"{ball} stays flat as {foot} rolls",
                (Slot.joint(foot), went),
                (Slot.joint(ball),),
                toes,
                (control.name,),
            )
        )
        return made


def _about(place: Vec, turn: Frame) -> Frame:
    """A rotation about a point."""
    return with_place(turn, sub(place, rotate(turn, place)))


def _stem(kit: Kit) -> str:
    return without_side(kit.name)


def _below(character: Character, name: str) -> list[Joint]:
    return [character.joint(n) for n in descendants(character, name)]


def _flesh(character: Character, ankle: np.ndarray, tip: np.ndarray, long: float) -> np.ndarray:
    """Points (k, 3) of the foot: below the ankle and within a foot's length of the line from ankle to toe tip."""
    p = character.points
    way = tip - ankle
    t = np.clip((p - ankle) @ way / max(float(way @ way), 1e-12), -0.6, 1.3)
    far = np.linalg.norm((p - ankle - t[:, None] * way)[:, [0, 2]], axis=1)
    chosen = (far < 0.55 * max(long, 1e-9)) & (p[:, 1] < ankle[1] + 1e-9)
    side = np.sign(ankle[0]) if abs(ankle[0]) > 0.005 * character.size else 0.0
    if side:
        chosen &= side * p[:, 0] > 0
    return np.asarray(p[chosen])
