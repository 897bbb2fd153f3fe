"""Arm and leg: bones by IK with a bend guide, or joint by joint (FK), blended."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from pydantic import Field

from ...character import GROUND, Channel, Character, Control, Joint, Kit, Ref, Space, without_side
from ...errors import BadParameters
from ..builder import Builder
from ..frames import (
    IDENTITY,
    Frame,
    Vec,
    add,
    axes_frame,
    compose,
    cross,
    dot,
    inverse,
    length,
    place_of,
    rotate,
    slerp,
    sub,
    swing,
    unit,
    with_place,
)
from ..ik import FoldingChain, bent_back, two_bone
from ..outlines import bud
from ..program import Operation, State, Values
from ..slots import Slot
from .base import MOVE, TURN, KitKind, Options, control_at, lengthened, tagged

SWITCHES = (
    Channel(name="ik", rest=1.0, low=0.0, high=1.0),
    Channel(name="stretch", rest=0.0, low=0.0, high=1.0),
    Channel(name="volume", rest=0.0, low=0.0, high=1.0),
    Channel(name="soft", rest=0.0, low=0.0, high=0.3),
    Channel(name="keep turn", rest=1.0, low=0.0, high=1.0),
)
PIN = Channel(name="pin", rest=0.0, low=0.0, high=1.0)
LIFT = Channel(name="lift", kind="turn", rest=0.0, low=-1.2, high=1.2)
Solved = tuple[list[Frame], list[float]]  # a frame for each bone, at its start, and how much longer each bone is


class LimbOptions(Options):
    stretch_limit: float = Field(1.5, ge=1.0, le=20, description="bones never become longer than this many times")


def plane_frame(along: Vec, normal: Vec) -> Frame:
    """Rotation with x along the bone and z along the bend plane's normal."""
    x = unit(along)
    y = unit(cross(normal, x))
    z = cross(x, y)
    return axes_frame(x, y, z)


def limb_joints(kit: Kit) -> list[str]:
    """The limb's joints from the first to the one that its target holds."""
    return [n for role in ("upper", "middle", "end") for n in kit.joints[role]]


def limb_target(character: Character, kit: Kit) -> Control | None:
    """The control that says where the limb's end goes; None where it has none."""
    return next((c for c in character.controls if c.kit == kit.name and c.key == "target"), None)


def limb_length(character: Character, kit: Kit) -> float:
    """Metres along the limb's bones at rest."""
    places = np.array([character.joint(n).place for n in limb_joints(kit)])
    return float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())


class Limb(KitKind):
    """The shared body of arm and leg.  `fallback` is where a dead-straight limb would bend to."""

    roles = {
        "upper": (1, 1, "the first bone, shoulder or hip"),
        "middle": (1, 8, "the bones between, elbow or knee; two with a hock"),
        "end": (1, 1, "what the target holds, wrist or ankle"),
        "collar": (0, 1, "what carries the first bone and may go with it"),
    }
    options = LimbOptions
    word: str
    guide: str
    fallback: np.ndarray
    carries_target = False  # whether the target may go with what carries the limb: feet stand in the world

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        names = limb_joints(kit)
        broken = any(character.joint(b).parent != a for a, b in zip(names, names[1:], strict=False))
        collar = kit.joints.get("collar", ())
        if broken or (collar and character.joint(names[0]).parent != collar[0]):
            raise BadParameters(
                f"{', '.join((*collar, *names))} are not a chain of parent and child.",
                kit.name,
                "Choose joints in a row.",
            )

    def _named(self, word: str, kit: Kit) -> str:
        """A control's name: the plain word on the only kit of its kind, with the kit's own name on others."""
        own = without_side(kit.name).removeprefix(self.kind).strip("_ ")
        return tagged(f"{word} {own}" if own else word, kit)

    def target(self, builder: Builder, kit: Kit) -> Control:
        return builder.mine(kit, "target")

    def bend_guide(self, builder: Builder, kit: Kit) -> Control:
        return builder.mine(kit, "guide")

    def _bend(self, places: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
        """The middle joint farthest off the line root–end, and the unit way there; `fallback` where it is straight."""
        a, c = places[0], places[-1]
        way = (c - a) / max(float(np.linalg.norm(c - a)), 1e-9)
        offs = [(b - a) - way * np.dot(b - a, way) for b in places[1:-1]]
        k = int(np.argmax([np.linalg.norm(o) for o in offs]))
        off = offs[k]
        if np.linalg.norm(off) < 1e-4 * np.linalg.norm(c - a):
            off = self.fallback - way * np.dot(self.fallback, way)
        return places[1 + k], off / np.linalg.norm(off)

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        joints = [character.joint(n) for n in limb_joints(kit)]
        places = [np.array(j.place) for j in joints]
        total = sum(float(np.linalg.norm(b - a)) for a, b in zip(places, places[1:], strict=False))
        middle, bend = self._bend(places)
        own = (PIN,) if len(joints) == 3 else (LIFT,) if len(joints) == 4 else ()
        target = control_at(
            character, kit, joints[-1], self._named(self.word, kit), MOVE + TURN + SWITCHES + own, grow=1.35,
            upright=True, reach=0.3, key="target",
        )  # fmt: skip
        guide = Control(
            name=self._named(self.guide, kit), kit=kit.name, key="guide", side=kit.side,
            place=tuple(map(float, middle + bend * 0.75 * total)),
            channels=MOVE, outline=bud(0.035 * character.size),
        )  # fmt: skip
        made = [target, guide]
        for n in kit.joints.get("collar", ()):
            follow = (Channel(name="follow", rest=0.0, low=0.0, high=1.0),)
            made.append(
                control_at(
                    character, kit, character.joint(n), f"{n} turn", TURN + follow, level="fine", reach=0.5,
                    key=f"turn:{n}",
                )
            )  # fmt: skip
        for j in joints:
            made.append(
                control_at(character, kit, j, f"{j.name} turn", TURN, level="fine", reach=0.3, key=f"turn:{j.name}")
            )
        return made

    def rules(self, character: Character, kit: Kit) -> list[Space]:  # type: ignore[override]
        """The target may stand on what carries the limb, and the first bone may keep its heading."""
        joints = limb_joints(kit)
        above = character.joint(joints[0]).parent
        if kit.joints.get("collar"):
            above = character.joint(kit.joints["collar"][0]).parent
        if above is None:
            return []
        named = {c.key: c.name for c in character.controls if c.kit == kit.name}
        first = f"turn:{joints[0]}"
        made = [Space(name=f"{kit.name} heading", kit=kit.name, control=named[first], sources=(GROUND,), what="turn")]
        if self.carries_target:
            made.append(
                Space(name=f"{kit.name} target", kit=kit.name, control=named["target"], sources=(Ref.joint(above),))
            )
        return made

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        names = limb_joints(kit)
        joints = [builder.character.joint(n) for n in names]
        above = builder.parent_slot(joints[0])
        turns = [builder.mine(kit, f"turn:{n}") for n in names]
        target, guide = self.target(builder, kit), self.bend_guide(builder, kit)
        world = builder.world()
        fk_parents = [above, *(Slot.control(t.name) for t in turns[:-1])]
        goal = Slot.goal(kit.name)
        builder.new_slot(goal, builder.rest(Slot.joint(names[-1])))
        hold = builder.follow(goal, Slot.control(target.name), f"{names[-1]} is wanted where {target.name} is")
        return [
            *builder.standing(target, world),
            *builder.standing(guide, world),
            hold,
            *(self._collar(builder, kit, goal) if kit.joints.get("collar") else ()),
            *(o for c, p in zip(turns, fk_parents, strict=True) for o in builder.standing(c, p)),
            self._solve(builder, kit, joints, target, guide, turns, above),
        ]

    def _collar(self, builder: Builder, kit: Kit, goal: str) -> list[Operation]:
        """The collar turns by its own control, and by a share goes after what the limb reaches for."""
        name = kit.joints["collar"][0]
        control = builder.mine(kit, f"turn:{name}")
        parent = builder.parent_slot(builder.character.joint(name))
        share = builder.value(control, "follow")
        slot, source, wanted = Slot.joint(name), builder.slots[Slot.control(control.name)], builder.slots[goal]
        out, local = builder.slots[slot], builder.local(slot, Slot.control(control.name))
        way = rotate(
            inverse(with_place(builder.rest(slot), (0, 0, 0))),
            unit(sub(place_of(builder.rest(goal)), place_of(builder.rest(slot)))),
        )

        def run(state: State, values: Values) -> None:
            frame = compose(state[source], local)
            if values[share] > 0.0:
                here = place_of(frame)
                now = sub(place_of(state[wanted]), here)
                if length(now) > 1e-9:
                    after = slerp(IDENTITY, swing(rotate(frame, way), unit(now)), values[share])
                    frame = with_place(compose(after, frame), here)
            state[out] = frame

        sentence = f"{name} turns, and goes after {goal[5:]} by a share"
        return [
            *builder.standing(control, parent),
            Operation(sentence, (Slot.control(control.name), goal), (slot,), run, (control.name,)),
        ]

    def _solve(
        self, builder: Builder, kit: Kit, joints: list[Joint], target: Control, guide: Control, turns: list[Control],
        above: str | None,
    ) -> Operation:  # fmt: skip
        names = [j.name for j in joints]
        slots = [builder.slots[Slot.joint(n)] for n in names]
        first = builder.local(Slot.joint(names[0]), above)
        steps = [builder.local(Slot.joint(b), Slot.joint(a)) for a, b in zip(names, names[1:], strict=False)]
        goal_slot, guide_slot = builder.slots[Slot.goal(kit.name)], builder.slots[Slot.control(guide.name)]
        above_slot = builder.slots[above] if above else -1
        fk_slots = [builder.slots[Slot.control(t.name)] for t in turns]
        fk_locals = [builder.local(Slot.joint(n), Slot.control(t.name)) for n, t in zip(names, turns, strict=True)]
        ik_value, keep_value = builder.value(target, "ik"), builder.value(target, "keep turn", absent=1.0)
        volume_value = builder.value(target, "volume")
        scales = [builder.scale_slot(n) for n in names[:-1]]
        longer = [lengthened(j) for j in joints[:-1]]
        bones = self._two_bones if len(joints) == 3 else self._many_bones
        reach = bones(builder, kit, names, target, guide)
        last = len(joints) - 1

        def run(state: State, values: Values) -> None:
            ik = values[ik_value]
            root = place_of(compose(state[above_slot], first) if above_slot >= 0 else first)
            wanted: list[Frame] = []
            factors = [1.0] * last
            if ik > 0.0:
                held = state[goal_slot]
                wanted, factors = reach(root, place_of(held), place_of(state[guide_slot]), values)
                keep = values[keep_value]
                wanted.append(held if keep >= 1.0 else slerp(compose(wanted[-1], steps[-1]), held, keep))
                if ik < 1.0:
                    factors = [1.0 + (f - 1.0) * ik for f in factors]
            if ik < 1.0:
                fk = [compose(state[s], f) for s, f in zip(fk_slots, fk_locals, strict=True)]
                wanted = [slerp(a, b, ik) for a, b in zip(fk, wanted, strict=True)] if wanted else fk
            place = root
            volume = values[volume_value]
            for i in range(last):
                frame = with_place(wanted[i], place)
                state[slots[i]] = frame
                local, factor = steps[i], factors[i]
                state[scales[i]] = longer[i](factor, volume)
                own = (local[3] * factor, local[7] * factor, local[11] * factor)
                place = place_of(compose(frame, with_place(local, own)))
            state[slots[last]] = with_place(wanted[last], place)

        reads = (Slot.goal(kit.name), Slot.control(guide.name), *(Slot.control(t.name) for t in turns))
        writes = tuple(Slot.joint(n) for n in names) + tuple(Slot.scale(n) for n in names[:-1])
        who = " and ".join([", ".join(names[:-2]), names[-2]])
        return Operation(
            f"{who} reach for {target.name}", reads + ((above,) if above else ()), writes, run, (target.name,)
        )

    def _two_bones(
        self, builder: Builder, kit: Kit, names: list[str], target: Control, guide: Control
    ) -> Callable[[Vec, Vec, Vec, Values], Solved]:
        rests = [builder.rest(Slot.joint(n)) for n in names]
        p0, p1, p2 = (place_of(r) for r in rests)
        upper, lower = length(sub(p1, p0)), length(sub(p2, p1))
        limit = float(kit.options["stretch_limit"])
        # The bend plane at rest, from which each bone's turn is measured: at rest the measured turn is none.
        _, _, rest_normal, _ = two_bone(p0, p2, place_of(builder.rest(Slot.control(guide.name))), upper, lower)
        offs = [
            compose(inverse(plane_frame(way, rest_normal)), with_place(rest, (0.0, 0.0, 0.0)))
            for way, rest in zip((sub(p1, p0), sub(p2, p1)), rests[:2], strict=True)
        ]
        stretch, soft, pin = (builder.value(target, n) for n in ("stretch", "soft", "pin"))

        def reach(root: Vec, goal: Vec, pole: Vec, values: Values) -> Solved:
            mid, end, normal, factor = two_bone(root, goal, pole, upper, lower, values[stretch], limit, values[soft])
            factors = [factor, factor]
            if values[pin] > 0.0:
                t = values[pin]
                mid = (
                    mid[0] + t * (pole[0] - mid[0]),
                    mid[1] + t * (pole[1] - mid[1]),
                    mid[2] + t * (pole[2] - mid[2]),
                )
                end = (
                    end[0] + t * (goal[0] - end[0]),
                    end[1] + t * (goal[1] - end[1]),
                    end[2] + t * (goal[2] - end[2]),
                )
                factors = [length(sub(mid, root)) / upper, length(sub(end, mid)) / lower]
                turned = cross(sub(mid, root), sub(end, mid))
                if length(turned) > 1e-9 * upper * lower:
                    normal = unit(turned) if dot(turned, normal) >= 0 else unit((-turned[0], -turned[1], -turned[2]))
            return [
                compose(plane_frame(sub(mid, root), normal), offs[0]),
                compose(plane_frame(sub(end, mid), normal), offs[1]),
            ], factors

        return reach

    def _many_bones(
        self, builder: Builder, kit: Kit, names: list[str], target: Control, guide: Control
    ) -> Callable[[Vec, Vec, Vec, Values], Solved]:
        rests = [builder.rest(Slot.joint(n)) for n in names]
        points = [place_of(r) for r in rests]
        pole_rest = place_of(builder.rest(Slot.control(guide.name)))
        chain = FoldingChain(points, pole_rest)
        limit = float(kit.options["stretch_limit"])
        stretch, soft, lift = (builder.value(target, n) for n in ("stretch", "soft", "lift"))
        _, frames, normal, _ = chain.solve(points[0], points[-1], pole_rest)
        still = [with_place(r, (0.0, 0.0, 0.0)) for r in rests]
        offs = [compose(inverse(with_place(f, (0.0, 0.0, 0.0))), r) for f, r in zip(frames, still, strict=False)]
        sizes = [length(sub(b, a)) for a, b in zip(points, points[1:], strict=False)]

        def reach(root: Vec, goal: Vec, pole: Vec, values: Values) -> Solved:
            placed, frames, normal, factor = chain.solve(root, goal, pole, values[stretch], limit, values[soft])
            factors = [factor] * len(frames)
            natural = [compose(f, off) for f, off in zip(frames, offs, strict=True)]
            if not values[lift]:
                return natural, factors
            # The last bone turns about the end, and the two above reach for where it then begins, on the side to which they
            # are folded by nature, wherever that is: so the limb leaves its natural fold smoothly and no bone is stretched.
            hock = bent_back(placed, normal, values[lift])
            a, b = sizes[0] * factor, sizes[1] * factor
            line0, line1 = sub(placed[2], root), sub(hock, root)
            if min(length(line0), length(line1)) < 1e-9:
                return natural, factors
            before0, now0 = unit(line0), unit(line1)
            knee = sub(placed[1], root)
            out_of = add(knee, before0, -dot(knee, before0))
            side0 = unit(out_of) if length(out_of) > 1e-9 * a else unit(cross(normal, before0))
            side1 = rotate(swing(before0, now0), side0)
            knee1, hock1, _, _ = two_bone(root, hock, add(root, side1, a + b), a, b)
            normal0, normal1 = cross(before0, side0), cross(now0, side1)
            lifted = [root, knee1, hock1, placed[3]]
            out = []
            for i in range(3):
                way, before = sub(lifted[i + 1], lifted[i]), sub(placed[i + 1], placed[i])
                factors[i] = length(way) / sizes[i]
                turn = compose(plane_frame(way, normal1), inverse(plane_frame(before, normal0)))
                out.append(compose(turn, natural[i]))
            return out, factors

        return reach


class Arm(Limb):
    kind = "arm"
    provides = frozenset({"goal", "lengthens", "neighbours"})
    about = "Upper arm, forearm and hand: a hand target with an elbow guide, or joint by joint, blended."
    word, guide = "hand", "elbow guide"
    fallback = np.array([0.0, 0.0, -1.0])
    carries_target = True


class Leg(Limb):
    kind = "leg"
    provides = frozenset({"goal", "lengthens", "neighbours"})
    about = "Thigh, shin and foot, also with a hock or more bones: a foot target with a knee guide, or joint by joint."
    word, guide = "foot", "knee guide"
    fallback = np.array([0.0, 0.0, 1.0])
