"""What digits, fins, fans and wings share: a turn on every joint, and one control whose channels lead them all.

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
    Ref,
    Rule,
    without_side,
)
from ...geometry.rotations import matrix_from_quaternion, matrix_from_rotation_vector, unit
from ...joints.orient import bone_child, bone_frame
from ..builder import Builder
from ..frames import Frame, angles_in_order
from ..outlines import outline_of, slice_outline
from ..program import Operation
from ..slots import Slot
from .base import KitKind, Options, tagged
from .turns import turn_controls, turn_operations

# joint → value of the channel → rotation vector in the joint's own axes
ValueTurns = dict[str, dict[float, np.ndarray]]


def link_from_turns(character: Character, kit: Kit, lead: str, channel: str, turns: ValueTurns) -> Link:
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
                followers.append(Follower(thing=Ref.control(control.name), channel=f"turn {'xyz'[axis]}", curve=curve))
    return Link(
        name=f"{kit.name} {channel}", kit=kit.name, lead=Lead(thing=Ref.control(lead), channel=channel),
        followers=tuple(followers),
    )  # fmt: skip


def _angles(order: str, vector: np.ndarray) -> tuple[float, float, float]:
    r = matrix_from_rotation_vector(vector)
    frame: Frame = tuple(float(v) for row in r for v in (*row, 0.0))
    return angles_in_order(order, frame)


class Led(KitKind):
    """Chains of joints under one lead control.  `named` are its channels and how each turns the joints."""

    lead_word: str
    named: dict[str, Callable[[Character, Kit], ValueTurns]]
    options = Options
    low = -1.0
    along = 0.5  # how far down the first bones the lead's line lies

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
        starts = np.array([j.place for j in firsts])
        place = (starts + self.along * (np.array([tip_of(character, j) for j in firsts]) - starts)).mean(0)
        line = np.array(slice_outline(character, place, axes, 1.5)).reshape(-1, 3)
        if not len(line):
            angle = np.linspace(0, 2 * np.pi, 25)[:-1]
            line = 0.04 * character.size * np.stack([0 * angle, np.cos(angle), np.sin(angle)], 1)
        # A slice that meets the trunk, not the limb alone, is brought to the limb's own measure.
        far = max(float(np.linalg.norm(np.array(character.joint(n).place) - place)) for n in self.every(kit))
        wide = float(np.linalg.norm(line, axis=1).mean())
        line = line * min(1.0, max(0.5 * far, 0.02 * character.size) / max(wide, 1e-9))
        world = line @ axes.T
        own = without_side(kit.name)
        word = own if own else self.lead_word
        channels = tuple(Channel(name=n, low=self.low, high=1.0) for n in self.named)
        outline = outline_of(world)
        return Control(
            name=tagged(word, kit), kit=kit.name, key="lead", side=kit.side, place=tuple(map(float, place)),
            channels=channels, outline=outline,
        )  # fmt: skip

    @staticmethod
    def lead_of(character: Character, kit: Kit) -> Control:
        """The kit's lead control."""
        return next(c for c in character.controls if c.kit == kit.name and c.key == "lead")

    def lead_parent(self, character: Character, kit: Kit) -> str | None:
        return character.joint(self.chains(kit)[0][0]).parent

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        lead = builder.mine(kit, "lead")
        parent = self.lead_parent(builder.character, kit)
        stands = Slot.joint(parent) if parent and parent not in self.every(kit) else builder.world()
        return [*builder.standing(lead, stands), *turn_operations(builder, kit, self.every(kit))]

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        lead = self.lead_of(character, kit).name
        made: list[Rule] = []
        for channel, turns_of in self.named.items():
            turns = {j: at for j, at in turns_of(character, kit).items() if at}
            if turns:
                made.append(link_from_turns(character, kit, lead, channel, turns))
        return made


def hinge_of(joint: Joint) -> np.ndarray:
    out = np.zeros(3)
    out["xyz".index(joint.hinge[-1])] = -1.0 if joint.hinge.startswith("-") else 1.0
    return out


def across_of(joint: Joint) -> np.ndarray:
    """The axis across both bone and hinge, about which digits spread."""
    aim = np.zeros(3)
    aim["xyz".index(joint.aim[-1])] = -1.0 if joint.aim.startswith("-") else 1.0
    return np.cross(hinge_of(joint), aim)


def curled(least: float, most: float, skip: tuple[str, ...] = ()) -> Callable[[Character, Kit], ValueTurns]:
    """Every joint bent about its hinge, by `most` radians at 1 and `least` at -1."""

    def turns(character: Character, kit: Kit) -> ValueTurns:
        return {
            n: {-1.0: least * hinge_of(character.joint(n)), 1.0: most * hinge_of(character.joint(n))}
            for role, names in kit.joints.items()
            if role not in skip
            for n in names
        }

    return turns


def fanned(angle: float, skip: tuple[str, ...] = ()) -> Callable[[Character, Kit], ValueTurns]:
    """First joints turned away from the middle of their row, the outer ones by `angle` radians at 1."""

    def turns(character: Character, kit: Kit) -> ValueTurns:
        firsts = [character.joint(names[0]) for role, names in kit.joints.items() if names and role not in skip]
        if len(firsts) < 2:
            return {}
        places = np.array([j.place for j in firsts])
        tips = np.array([tip_of(character, j) for j in firsts])
        offs = tips - tips.mean(0)
        row = np.linalg.svd(offs)[2][0]
        far = offs @ row
        out: ValueTurns = {}
        for j, place, tip, f in zip(firsts, places, tips, far, strict=True):
            axes = matrix_from_quaternion(j.turn)
            axis = across_of(j)
            goes = float(np.cross(axes @ axis, tip - place) @ row)  # which way a positive turn carries the tip
            if abs(goes) > 1e-12:
                out[j.name] = {v: v * angle * f / np.abs(far).max() * np.sign(goes) * axis for v in (-1.0, 1.0)}
        return out

    return turns


def tip_of(character: Character, joint: Joint) -> np.ndarray:
    child = bone_child(character, joint)
    return np.array(child.place) if child else np.array(joint.place) + 0.01 * bone_frame(joint)[:, 0]


def turned_about_bone(angle: float) -> Callable[[Character, Kit], ValueTurns]:
    """The first joint of each chain turned about its own bone."""

    def turns(character: Character, kit: Kit) -> ValueTurns:
        out: ValueTurns = {}
        for names in kit.joints.values():
            for n in names[:1]:
                joint = character.joint(n)
                axis = np.cross(across_of(joint), hinge_of(joint))
                # Alike on both sides: what is in front of the bone goes up at 1.
                axes = matrix_from_quaternion(joint.turn)
                axis = axis * (1.0 if np.cross(axes @ axis, [0.0, 0.0, 1.0])[1] >= 0 else -1.0)
                out[n] = {-1.0: -angle * axis, 1.0: angle * axis}
        return out

    return turns


def swept(angle: float) -> Callable[[Character, Kit], ValueTurns]:
    """The first joint of each chain turned about the axis across bone and hinge; the others a third of that."""

    def turns(character: Character, kit: Kit) -> ValueTurns:
        out: ValueTurns = {}
        for names in kit.joints.values():
            for i, n in enumerate(names):
                joint = character.joint(n)
                way = tip_of(character, joint) - np.array(joint.place)
                axis = across_of(joint)
                # Alike on both sides: back at 1, or down where the bone lies along the body.
                goes = float(np.cross(matrix_from_quaternion(joint.turn) @ axis, unit(way)) @ [0.0, -0.3, -1.0])
                axis = axis * (1.0 if goes >= 0 else -1.0) * (angle if i == 0 else angle / 3)
                out[n] = {-1.0: -axis, 1.0: axis}
        return out

    return turns
