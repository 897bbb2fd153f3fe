"""Arm and leg: two bones by IK with a bend guide, or joint by joint (FK), blended."""

from __future__ import annotations

import numpy as np

from ...character import Channel, Character, Control, Joint, Kit, without_side
from ...errors import BadParameters
from ..builder import Builder
from ..frames import (
    Frame,
    Vec,
    compose,
    cross,
    inverse,
    length,
    place_of,
    slerp,
    sub,
    unit,
    with_place,
)
from ..ik import two_bone
from ..outlines import bud
from ..program import UNIT_SCALE, Operation, State, Values
from .base import MOVE, TURN, KitKind, Options, control_at, tagged

SWITCHES = (
    Channel(name="ik", rest=1.0, low=0.0, high=1.0),
    Channel(name="stretch", rest=0.0, low=0.0, high=1.0),
    Channel(name="soft", rest=0.0, low=0.0, high=0.3),
)


class LimbOptions(Options):
    stretch_limit: float = 1.5  # the bones never become longer than this many times their rest length


def plane_frame(along: Vec, normal: Vec) -> Frame:
    """Rotation with x along the bone and z along the bend plane's normal."""
    x = unit(along)
    y = unit(cross(normal, x))
    z = cross(x, y)
    return (x[0], y[0], z[0], 0.0, x[1], y[1], z[1], 0.0, x[2], y[2], z[2], 0.0)


class Limb(KitKind):
    """The shared body of arm and leg.  `fallback` is where a dead-straight limb would bend to."""

    roles = {
        "upper": (1, 1, "the first bone, shoulder or hip"),
        "middle": (1, 1, "the second bone, elbow or knee"),
        "end": (1, 1, "what the target holds, wrist or ankle"),
    }
    options = LimbOptions
    word: str
    guide: str
    fallback: np.ndarray

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        u, m, e = (character.joint(kit.joints[r][0]) for r in ("upper", "middle", "end"))
        if m.parent != u.name or e.parent != m.name:
            raise BadParameters(
                f"{u.name}, {m.name}, {e.name} are not a chain of parent and child.",
                kit.name,
                "Choose three joints in a row.",
            )

    def _named(self, word: str, kit: Kit) -> str:
        """A control's name: the plain word on the only kit of its kind, with the kit's own name on others."""
        own = without_side(kit.name).removeprefix(self.kind).strip("_ ")
        return tagged(f"{word} {own}" if own else word, kit)

    def _bend(self, u: Joint, m: Joint, e: Joint) -> np.ndarray:
        """Unit direction from the line upper–end to the middle joint; `fallback` where the limb is straight."""
        a, b, c = (np.array(j.place) for j in (u, m, e))
        way = (c - a) / max(float(np.linalg.norm(c - a)), 1e-9)
        off = (b - a) - way * np.dot(b - a, way)
        if np.linalg.norm(off) < 1e-4 * np.linalg.norm(c - a):
            off = self.fallback - way * np.dot(self.fallback, way)
        return off / np.linalg.norm(off)

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        u, m, e = (character.joint(kit.joints[r][0]) for r in ("upper", "middle", "end"))
        places = [np.array(j.place) for j in (u, m, e)]
        total = float(np.linalg.norm(places[1] - places[0]) + np.linalg.norm(places[2] - places[1]))
        guide_place = places[1] + self._bend(u, m, e) * 0.75 * total
        target = control_at(
            character, kit, e, self._named(self.word, kit), MOVE + TURN + SWITCHES, grow=1.35, upright=True, reach=0.3
        )
        guide = Control(
            name=self._named(self.guide, kit), kit=kit.name, side=kit.side, place=tuple(map(float, guide_place)),  # type: ignore[arg-type]
            channels=MOVE, outline=bud(0.035 * character.size),
        )  # fmt: skip
        turns = [control_at(character, kit, j, f"{j.name} turn", TURN, level="fine", reach=0.3) for j in (u, m, e)]
        return [target, guide, *turns]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        named = builder.character.control_named
        names = [kit.joints[r][0] for r in ("upper", "middle", "end")]
        joints = [builder.character.joint(n) for n in names]
        above = builder.parent_slot(joints[0])
        turns = [named[f"{n} turn"] for n in names]
        target, guide = named[self._named(self.word, kit)], named[self._named(self.guide, kit)]
        world = builder.world()
        fk_parents = [above, f"control:{turns[0].name}", f"control:{turns[1].name}"]
        return [
            builder.control(target, world),
            builder.control(guide, world),
            *(builder.control(c, p) for c, p in zip(turns, fk_parents, strict=True)),
            self._solve(builder, kit, joints, target.name, guide.name, [c.name for c in turns], above),
        ]

    def _solve(
        self, builder: Builder, kit: Kit, joints: list[Joint], target: str, guide: str, turns: list[str],
        above: str | None,
    ) -> Operation:  # fmt: skip
        slots = [builder.slots[f"joint:{j.name}"] for j in joints]
        rests = [builder.rest(f"joint:{j.name}") for j in joints]
        p0, p1, p2 = (place_of(r) for r in rests)
        upper, lower = length(sub(p1, p0)), length(sub(p2, p1))
        limit = float(kit.options["stretch_limit"])
        # The bend plane at rest, from which each bone's turn is measured: at rest the measured turn is none.
        guide_rest = place_of(builder.rest(f"control:{guide}"))
        _, _, normal, _ = two_bone(p0, p2, guide_rest, upper, lower)
        upper_off = compose(inverse(plane_frame(sub(p1, p0), normal)), with_place(rests[0], (0.0, 0.0, 0.0)))
        lower_off = compose(inverse(plane_frame(sub(p2, p1), normal)), with_place(rests[1], (0.0, 0.0, 0.0)))
        first_local = builder.local(f"joint:{joints[0].name}", above)
        second_local = builder.local(f"joint:{joints[1].name}", f"joint:{joints[0].name}")
        third_local = builder.local(f"joint:{joints[2].name}", f"joint:{joints[1].name}")
        end_in_target = builder.local(f"joint:{joints[2].name}", f"control:{target}")
        fk_slots = [builder.slots[f"control:{n}"] for n in turns]
        fk_locals = [builder.local(f"joint:{j.name}", f"control:{n}") for j, n in zip(joints, turns, strict=True)]
        target_slot, guide_slot = builder.slots[f"control:{target}"], builder.slots[f"control:{guide}"]
        above_slot = builder.slots[above] if above else -1
        ik_value, stretch_value = builder.channels[(target, "ik")], builder.channels[(target, "stretch")]
        soft_value = builder.channels.get((target, "soft"), -1)  # rigs made before there was one lack it
        scale_names = [f"scale:{j.name}" for j in joints[:2]]
        scale_slots = [builder.new_slot(n, UNIT_SCALE) for n in scale_names]

        def run(state: State, values: Values) -> None:
            ik = values[ik_value]
            root = place_of(compose(state[above_slot], first_local) if above_slot >= 0 else first_local)
            wanted: list[Frame] = []
            factor = 1.0
            if ik > 0.0:
                held = compose(state[target_slot], end_in_target)
                mid, end, n, factor = two_bone(
                    root,
                    place_of(held),
                    place_of(state[guide_slot]),
                    upper,
                    lower,
                    values[stretch_value],
                    limit,
                    values[soft_value] if soft_value >= 0 else 0.0,
                )
                wanted = [
                    compose(plane_frame(sub(mid, root), n), upper_off),
                    compose(plane_frame(sub(end, mid), n), lower_off),
                    held,
                ]
                factor = 1.0 + (factor - 1.0) * ik
            if ik < 1.0:
                fk = [compose(state[s], f) for s, f in zip(fk_slots, fk_locals, strict=True)]
                wanted = [slerp(a, b, ik) for a, b in zip(fk, wanted, strict=True)] if wanted else fk
            place = root
            for i, local in enumerate((second_local, third_local, None)):
                frame = with_place(wanted[i], place)
                state[slots[i]] = frame
                if local is not None:
                    own = (local[3] * factor, local[7] * factor, local[11] * factor)
                    place = place_of(compose(frame, with_place(local, own)))
            scale = (factor, 1.0, 1.0) if factor != 1.0 else UNIT_SCALE
            state[scale_slots[0]] = scale
            state[scale_slots[1]] = scale

        reads = (f"control:{target}", f"control:{guide}", *(f"control:{n}" for n in turns)) + (
            (above,) if above else ()
        )
        writes = tuple(f"joint:{j.name}" for j in joints) + tuple(scale_names)
        return Operation(f"{joints[0].name} and {joints[1].name} reach for {target}", reads, writes, run, (target,))


class Arm(Limb):
    kind = "arm"
    about = "Upper arm, forearm and hand: a hand target with an elbow guide, or joint by joint, blended."
    word, guide = "hand", "elbow guide"
    fallback = np.array([0.0, 0.0, -1.0])


class Leg(Limb):
    kind = "leg"
    about = "Thigh, shin and foot: a foot target with a knee guide, or joint by joint, blended."
    word, guide = "foot", "knee guide"
    fallback = np.array([0.0, 0.0, 1.0])
