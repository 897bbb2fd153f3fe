"""Digits, fins, fans and wings: a turn on every joint, and one control whose channels lead them all.

Each channel is a link: what it does is a curve per joint, made from the shape and recorded anew by posing.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ...character import (
    Channel,
    Character,
    Control,
    Curve,
    CurveKey,
    Follower,
    Joint,
    Kit,
    Lead,
    Link,
    Rule,
    without_side,
)
from ...geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector, unit
from ...joints.orient import bone_child, bone_frame
from ..builder import Builder
from ..frames import Frame, angles_in_order
from ..outlines import slice_outline
from ..program import Operation
from .base import KitKind, Options, tagged
from .turns import turn_controls, turn_operations

Turns = dict[str, dict[float, np.ndarray]]  # joint → value of the channel → rotation vector in the joint's own axes


def link_from_turns(character: Character, kit: Kit, lead: str, channel: str, turns: Turns) -> Link:
    """The link by which a channel turns these joints' controls: a key at each value, and none at zero."""
    named = {c.key: c for c in character.controls if c.kit == kit.name}
    followers = []
    for joint, at in turns.items():
        control = named[f"turn:{joint}"]
        angles = {v: _angles(control.order, r) for v, r in {0.0: np.zeros(3), **at}.items()}
        for axis in range(3):
            keys = tuple(CurveKey(at=v, value=round(float(a[axis]), 6)) for v, a in sorted(angles.items()))
            if any(abs(k.value) > 1e-6 for k in keys):
                curve = Curve(keys=keys, manner="smooth" if len(keys) > 3 else "linear", past="continue")
                followers.append(Follower(thing=f"control:{control.name}", channel=f"turn {'xyz'[axis]}", curve=curve))
    return Link(
        name=f"{kit.name} {channel}", kit=kit.name, lead=Lead(thing=f"control:{lead}", channel=channel),
        followers=tuple(followers),
    )  # fmt: skip


def _angles(order: str, vector: np.ndarray) -> tuple[float, float, float]:
    r = matrix_from_rotation_vector(vector)
    frame: Frame = tuple(float(v) for row in r for v in (*row, 0.0))
    return angles_in_order(order, frame)


class Led(KitKind):
    """Chains of joints under one lead control.  `named` are its channels and how each turns the joints."""

    lead_word: str
    named: dict[str, Callable[[Character, Kit], Turns]]
    options = Options
    low = -1.0

    def chains(self, kit: Kit) -> list[tuple[str, ...]]:
        """The chains in their row, thumb or first ray first."""
        return [names for role, names in kit.joints.items() if names and role in self.roles]

    def every(self, kit: Kit) -> tuple[str, ...]:
        return tuple(n for names in kit.joints.values() for n in names)

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        names = self.every(kit)
        return [self._lead(character, kit), *turn_controls(character, kit, names)]

    def _lead(self, character: Character, kit: Kit) -> Control:
        """The lead control: a slice across the first joints, pushed out."""
        firsts = [character.joint(c[0]) for c in self.chains(kit)]
        middle = firsts[len(firsts) // 2]
        axes = bone_frame(middle)
        place = np.mean([j.place for j in firsts], axis=0)
        line = np.array(slice_outline(character, place, axes, 1.5)).reshape(-1, 3)
        if not len(line):
            angle = np.linspace(0, 2 * np.pi, 25)[:-1]
            line = 0.04 * character.size * np.stack([0 * angle, np.cos(angle), np.sin(angle)], 1)
        world = line @ axes.T
        own = without_side(kit.name)
        word = own if own else self.lead_word
        channels = tuple(Channel(name=n, low=self.low, high=1.0) for n in self.named)
        outline = tuple((round(float(x), 5), round(float(y), 5), round(float(z), 5)) for x, y, z in world)
        return Control(
            name=tagged(word, kit), kit=kit.name, key="lead", side=kit.side, place=tuple(map(float, place)),  # type: ignore[arg-type]
            channels=channels, outline=outline,
        )  # fmt: skip

    def lead_parent(self, character: Character, kit: Kit) -> str | None:
        return character.joint(self.chains(kit)[0][0]).parent

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        lead = builder.mine(kit, "lead")
        parent = self.lead_parent(builder.character, kit)
        stands = f"joint:{parent}" if parent and parent not in self.every(kit) else builder.world()
        return [*builder.standing(lead, stands), *turn_operations(builder, kit, self.every(kit))]

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        lead = next(c.name for c in character.controls if c.kit == kit.name and c.key == "lead")
        made: list[Rule] = []
        for channel, turns_of in self.named.items():
            turns = {j: at for j, at in turns_of(character, kit).items() if at}
            if turns:
                made.append(link_from_turns(character, kit, lead, channel, turns))
        return made


def _hinge(joint: Joint) -> np.ndarray:
    out = np.zeros(3)
    out["xyz".index(joint.hinge[-1])] = -1.0 if joint.hinge.startswith("-") else 1.0
    return out


def _third(joint: Joint) -> np.ndarray:
    """The axis across both bone and hinge, about which digits spread."""
    aim = np.zeros(3)
    aim["xyz".index(joint.aim[-1])] = -1.0 if joint.aim.startswith("-") else 1.0
    return np.cross(_hinge(joint), aim)


def curled(least: float, most: float, skip: tuple[str, ...] = ()) -> Callable[[Character, Kit], Turns]:
    """Every joint bent about its hinge, by `most` radians at 1 and `least` at -1."""

    def turns(character: Character, kit: Kit) -> Turns:
        return {
            n: {-1.0: least * _hinge(character.joint(n)), 1.0: most * _hinge(character.joint(n))}
            for role, names in kit.joints.items()
            if role not in skip
            for n in names
        }

    return turns


def spread(angle: float, skip: tuple[str, ...] = ()) -> Callable[[Character, Kit], Turns]:
    """First joints turned away from the middle of their row, the outer ones by `angle` radians at 1."""

    def turns(character: Character, kit: Kit) -> Turns:
        firsts = [character.joint(names[0]) for role, names in kit.joints.items() if names and role not in skip]
        if len(firsts) < 2:
            return {}
        places = np.array([j.place for j in firsts])
        tips = np.array([_tip(character, j) for j in firsts])
        offs = tips - tips.mean(0)
        row = np.linalg.svd(offs)[2][0]
        far = offs @ row
        out: Turns = {}
        for j, place, tip, f in zip(firsts, places, tips, far, strict=True):
            axes = matrix_from_quaternion(j.turn)
            axis = _third(j)
            goes = float(np.cross(axes @ axis, tip - place) @ row)  # which way a positive turn carries the tip
            if abs(goes) > 1e-12:
                out[j.name] = {v: v * angle * f / np.abs(far).max() * np.sign(goes) * axis for v in (-1.0, 1.0)}
        return out

    return turns


def _tip(character: Character, joint: Joint) -> np.ndarray:
    child = bone_child(character, joint)
    return np.array(child.place) if child else np.array(joint.place) + matrix_from_quaternion(joint.turn)[:, 0] * 0.01


def turned_about_bone(angle: float) -> Callable[[Character, Kit], Turns]:
    """The first joint of each chain turned about its own bone."""

    def turns(character: Character, kit: Kit) -> Turns:
        out: Turns = {}
        for names in kit.joints.values():
            for n in names[:1]:
                joint = character.joint(n)
                axis = np.cross(_third(joint), _hinge(joint))
                # Alike on both sides: what is in front of the bone goes up at 1.
                axes = matrix_from_quaternion(joint.turn)
                axis = axis * (1.0 if np.cross(axes @ axis, [0.0, 0.0, 1.0])[1] >= 0 else -1.0)
                out[n] = {-1.0: -angle * axis, 1.0: angle * axis}
        return out

    return turns


def swept(angle: float) -> Callable[[Character, Kit], Turns]:
    """The first joint of each chain turned about the axis across bone and hinge; the others a third of that."""

    def turns(character: Character, kit: Kit) -> Turns:
        out: Turns = {}
        for names in kit.joints.values():
            for i, n in enumerate(names):
                joint = character.joint(n)
                way = _tip(character, joint) - np.array(joint.place)
                axis = _third(joint)
                # Alike on both sides: back at 1, or down where the bone lies along the body.
                goes = float(np.cross(matrix_from_quaternion(joint.turn) @ axis, unit(way)) @ [0.0, -0.3, -1.0])
                axis = axis * (1.0 if goes >= 0 else -1.0) * (angle if i == 0 else angle / 3)
                out[n] = {-1.0: -axis, 1.0: axis}
        return out

    return turns


class Digits(Led):
    kind = "digits"
    about = (
        "Fingers or toes under one control: curl, spread, fist, thumb tuck, cup and gestures, all recorded by posing."
    )
    lead_word = "fingers"
    roles = {
        "thumb": (0, 6, "the thumb, from its first joint"),
        **{f"digit {i}": (0, 6, f"digit {i}, from its first joint") for i in range(1, 9)},
        "palm": (0, 8, "palm joints, which cup with a falloff to the wrist"),
    }
    named = {
        "curl": curled(-0.35, 1.25, ("thumb", "palm")),
        "spread": spread(0.35, ("thumb", "palm")),
        "fist": lambda c, k: _fist(c, k),
        "thumb tuck": lambda c, k: _tuck(c, k),
        "cup": lambda c, k: _cup(c, k),
        "point": lambda c, k: _pointing(c, k),
        "open": lambda c, k: _opened(c, k),
    }  # fmt: skip

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        if not self.chains(kit):
            from ...errors import BadParameters

            raise BadParameters("Digits need one digit at least.", kit.name, "Choose the first joint of each.")

    def chains(self, kit: Kit) -> list[tuple[str, ...]]:
        return [names for role, names in kit.joints.items() if names and role != "palm"] or [
            names for names in kit.joints.values() if names
        ]

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        lead, *others = super().controls(character, kit)
        lone = {"thumb tuck": "thumb", "cup": "palm"}
        each = tuple(
            Channel(name=r.replace("digit", "curl"), low=-1.0, high=1.0) for r in kit.joints if r.startswith("digit ")
        )
        channels = tuple(c for c in lead.channels if c.name not in lone or kit.joints.get(lone[c.name]))
        size = (Channel(name="size", kind="value", rest=0.0, low=-0.9, high=4.0),)
        return [lead.model_copy(update={"channels": channels + each + size}), *others]

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        lead = next(c for c in character.controls if c.kit == kit.name and c.key == "lead")
        has = {c.name for c in lead.channels}
        made = [r for r in super().rules(character, kit) if isinstance(r, Link) and r.lead.channel in has]
        for role, names in kit.joints.items():
            if role.startswith("digit ") and names:
                one = kit.model_copy(update={"joints": {role: names}})
                channel = role.replace("digit", "curl")
                made.append(link_from_turns(character, kit, lead.name, channel, curled(-0.35, 1.25)(character, one)))
        grow = Curve(keys=(CurveKey(at=-1, value=-1), CurveKey(at=1, value=1)), past="continue")
        followers = tuple(
            Follower(thing=f"joint:{n}", channel="size", curve=grow) for names in self.chains(kit) for n in names
        )
        size = Lead(thing=f"control:{lead.name}", channel="size")
        return [*made, Link(name=f"{kit.name} size", kit=kit.name, lead=size, followers=followers)]


def _fist(character: Character, kit: Kit) -> Turns:
    """Everything closed; backwards everything wide open, digits spread."""
    closed = curled(-0.45, 1.45, ("thumb", "palm"))(character, kit)
    apart = spread(0.4, ("thumb", "palm"))(character, kit)
    for n, at in apart.items():
        closed[n][-1.0] = closed[n][-1.0] + at[1.0]
    for n, at in _tuck(character, kit).items():
        closed[n] = {-1.0: at[-1.0], 1.0: at[1.0]}
    return closed


def _tuck(character: Character, kit: Kit) -> Turns:
    """The thumb brought over the palm: its first joint swings towards the middle of the digits, the others close."""
    thumb = kit.joints.get("thumb", ())
    firsts = [character.joint(n[0]) for r, n in kit.joints.items() if r.startswith("digit ") and n]
    if not thumb or not firsts:
        return {}
    first = character.joint(thumb[0])
    axes = matrix_from_quaternion(first.turn)
    place, tip = np.array(first.place), _tip(character, character.joint(thumb[-1]))
    goal = np.mean([j.place for j in firsts], axis=0)
    axis = np.cross(unit(tip - place), unit(goal - place))
    size = float(np.linalg.norm(axis))
    angle = 0.75 * float(np.arctan2(size, unit(tip - place) @ unit(goal - place)))
    own = axes.T @ (axis / max(size, 1e-9)) * angle
    out: Turns = {thumb[0]: {-1.0: -0.5 * own, 1.0: own}}
    for n in thumb[1:]:
        out[n] = {-1.0: -0.3 * _hinge(character.joint(n)), 1.0: 0.8 * _hinge(character.joint(n))}
    return out


def _cup(character: Character, kit: Kit) -> Turns:
    """Palm joints close about their hinges, those farther from the thumb's side more: the falloff to the wrist."""
    palm = kit.joints.get("palm", ())
    return {
        n: {v: v * 0.45 * (i + 1) / len(palm) * _hinge(character.joint(n)) for v in (-1.0, 1.0)}
        for i, n in enumerate(palm)
    }


def _pointing(character: Character, kit: Kit) -> Turns:
    """The first digit straight, the others and the thumb closed."""
    first = next((r for r in kit.joints if r.startswith("digit ")), "")
    return {
        n: {1.0: at[1.0]}
        for n, at in _fist(
            character, kit.model_copy(update={"joints": {r: n for r, n in kit.joints.items() if r != first}})
        ).items()
    }


def _opened(character: Character, kit: Kit) -> Turns:
    return {n: {1.0: at[-1.0]} for n, at in _fist(character, kit).items()}


RAYS = {f"ray {i}": (0, 12, f"ray {i}, from its first joint") for i in range(1, 13)}


class Fin(Led):
    kind = "fin"
    about = "A fin or flipper, one chain or several rays: curl, sweep, twist and spread."
    lead_word = "fin"
    roles = RAYS
    named = {"curl": curled(-0.6, 0.6), "sweep": swept(0.8), "twist": turned_about_bone(0.9), "spread": spread(0.45)}


class Fan(Led):
    kind = "fan"
    about = "A tail fan: spread and closed, its sides slid inside the middle; raised, swept and curled."
    lead_word = "fan"
    roles = RAYS
    named = {"spread": spread(0.7), "raise": curled(-0.7, 0.7), "sweep": swept(0.6)}

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        """Closing also slides every side ray under the middle one, by its place in the row."""
        made = super().rules(character, kit)
        firsts = [character.joint(names[0]) for names in self.chains(kit)]
        lead = next(c.name for c in character.controls if c.kit == kit.name and c.key == "lead")
        if len(firsts) < 2:
            return made
        places = np.array([j.place for j in firsts])
        tips = np.array([_tip(character, j) for j in firsts])
        ahead = unit((tips - places).mean(0))
        row = np.linalg.svd(tips - tips.mean(0))[2][0]
        normal = np.cross(ahead, row)
        normal *= -1.0 if normal[1] < 0 else 1.0
        far = (tips - tips.mean(0)) @ row
        followers = []
        for j, f in zip(firsts, far, strict=True):
            share = abs(f) / max(float(np.abs(far).max()), 1e-9)
            own = matrix_from_quaternion(j.turn).T @ (-normal * share * 0.012 * character.size)
            for axis in range(3):
                if abs(own[axis]) > 1e-7:
                    keys = (CurveKey(at=-1, value=float(own[axis])), CurveKey(at=0, value=0.0))
                    thing = f"joint:{j.name}"
                    followers.append(Follower(thing=thing, channel=f"move {'xyz'[axis]}", curve=Curve(keys=keys)))
        slide = Link(
            name=f"{kit.name} slide", kit=kit.name, lead=Lead(thing=f"control:{lead}", channel="spread"),
            followers=tuple(followers),
        )  # fmt: skip
        return [*made, slide]


class Wing(Led):
    kind = "wing"
    about = (
        "A wing: arm, fingers or feathers and what hangs on each; folded and spread in one value; flap, sweep and curl."
    )
    lead_word = "wing"
    roles = {
        "upper": (1, 1, "the upper arm"),
        "middle": (1, 1, "the forearm"),
        "end": (1, 1, "the hand"),
        **{f"finger {i}": (0, 8, f"finger {i}, from its first joint") for i in range(1, 7)},
        "hung": (0, 48, "membrane or feather joints that hang on the arm's bones"),
    }
    named = {
        "fold": lambda c, k: folded_wing(c, k),
        "flap": lambda c, k: _flapped(c, k),
        "sweep": lambda c, k: _swept_wing(c, k),
        "curl": lambda c, k: _wing_curl(c, k),
    }  # fmt: skip

    def chains(self, kit: Kit) -> list[tuple[str, ...]]:
        return [kit.joints["upper"]]

    def every(self, kit: Kit) -> tuple[str, ...]:
        first = [n for r in ("upper", "middle", "end") for n in kit.joints[r]]
        return (*first, *(n for r, names in kit.joints.items() if r not in ("upper", "middle", "end") for n in names))


def _wing_axes(character: Character, kit: Kit) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Out along the spread wing, back along the body, and the wing plane's normal: unit vectors at rest."""
    root = np.array(character.joint(kit.joints["upper"][0]).place)
    ends = [np.array(character.joint(names[-1]).place) for r, names in kit.joints.items() if names]
    out = unit(max(ends, key=lambda p: float(np.linalg.norm(p - root))) - root)
    back = np.array([0.0, 0.0, -1.0])
    if abs(out @ back) > 0.9:
        back = np.array([0.0, -1.0, 0.0])
    spans = np.array(ends) - root
    normal = np.linalg.svd(np.vstack([spans, out, 0.3 * back]))[2][2]
    normal = normal if normal @ np.cross(out, back) > 0 else -normal
    back = unit(np.cross(normal, out))
    return out, back, normal


def folded_wing(character: Character, kit: Kit) -> Turns:
    """Upper arm back along the body, forearm forward on it, hand and all that hangs back again: a closed fan."""
    out, back, normal = _wing_axes(character, kit)

    def angle(way: np.ndarray) -> float:
        return float(np.arctan2(way @ back, way @ out))

    wanted = {"upper": 1.4, "middle": -1.35, "end": 1.45}  # radians from straight out towards straight back
    turned: dict[str, float] = {}
    delta: dict[str, float] = {}
    names = Wing().every(kit)
    role_of = {n: r for r, group in kit.joints.items() for n in group}
    for n in names:
        joint = character.joint(n)
        way = _tip(character, joint) - np.array(joint.place)
        rest = angle(way)
        role = role_of[n]
        if role in wanted:
            whole = wanted[role] - rest
        else:
            above = delta.get(str(joint.parent), 0.0)
            if role == "hung" or role.startswith("finger "):
                first = role == "hung" or n == kit.joints[role][0]
                # Lies back along the body, a trace of the fan kept so that the rays don't share one place.
                whole = (1.55 + 0.06 * (rest - 1.55)) - rest if first else above
            else:
                whole = above
        delta[n] = whole
        turned[n] = whole - delta.get(str(joint.parent), 0.0)
    turns: Turns = {}
    for n in names:
        own = matrix_from_quaternion(character.joint(n).turn).T @ normal
        if abs(turned[n]) > 1e-4:
            turns[n] = {v: v * turned[n] * own for v in (0.25, 0.5, 0.75, 1.0)}
            turns[n][-1.0] = -0.12 * turned[n] * own
    return turns


def _flapped(character: Character, kit: Kit) -> Turns:
    """Beaten down at 1 and up at -1, about the way back along the body; the hand lags behind a little."""
    _, back, normal = _wing_axes(character, kit)
    out: Turns = {}
    for role, share in (("upper", 0.8), ("middle", 0.3), ("end", 0.25)):
        for n in kit.joints[role]:
            joint = character.joint(n)
            way = _tip(character, joint) - np.array(joint.place)
            down = -1.0 if np.cross(back, way) @ [0.0, 1.0, 0.0] > 0 else 1.0
            own = matrix_from_quaternion(joint.turn).T @ back * down * share
            out[n] = {-1.0: -own, 1.0: own}
    return out


def _swept_wing(character: Character, kit: Kit) -> Turns:
    _, _, normal = _wing_axes(character, kit)
    n = kit.joints["upper"][0]
    own = matrix_from_quaternion(character.joint(n).turn).T @ normal
    return {n: {-1.0: -0.6 * own, 1.0: 0.6 * own}}


def _wing_curl(character: Character, kit: Kit) -> Turns:
    """Fingers bent down at 1, up at -1, each joint a little more than the one before."""
    _, back, _ = _wing_axes(character, kit)
    out: Turns = {}
    for role, names in kit.joints.items():
        if role.startswith("finger "):
            for i, n in enumerate(names):
                joint = character.joint(n)
                way = _tip(character, joint) - np.array(joint.place)
                axis = (
                    unit(np.cross(way, [0.0, -1.0, 0.0])) if np.linalg.norm(np.cross(way, [0, 1, 0])) > 1e-9 else back
                )
                own = matrix_from_quaternion(joint.turn).T @ axis * (0.25 + 0.08 * i)
                out[n] = {-1.0: -own, 1.0: own}
    return out
