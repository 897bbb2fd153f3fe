"""Kits and rules made again on the other side, with everything in them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..character import Channel, Character, Control, Joint, Kit, Ref, Rule, opposite, opposite_name
from ..errors import StepRefused
from ..geometry.rotations import matrix_from_quaternion
from .fitting import add_kit, driven_joints, remove_kit, with_rules
from .kits import KINDS
from .mirror import mirrored_values, opposite_control
from .outlines import shaped
from .rules.links import OWN


def mirrored_kit(character: Character, name: str) -> Character:
    """The kit's mirror image on the partners of its joints: options, points, shapes, limits, sets, rules and all.

    A kit that the partners had from such a mirroring before gives way.  Raises StepRefused for a kit in the middle, and
    where other kits hold the partners.
    """
    kit = next((k for k in character.kits if k.name == name), None)
    if kit is None or kit.side == "C":
        raise StepRefused(f"“{name}” has no other side.", character.name, "Choose a kit of the left or right.")
    joints = {r: tuple(_partner(character, n) for n in names) for r, names in kit.joints.items()}
    other = opposite_name(kit.name) if opposite_name(kit.name) != kit.name else f"{kit.name} {opposite(kit.side)}"
    old = next((k for k in character.kits if k.name == other and k.kind == kit.kind), None)
    if old is not None:
        character = remove_kit(character, other)
    held = driven_joints(character)
    clash = next((n for names in joints.values() for n in names if n in held and held[n] != name), None)

    made = Kit(
        name=other, kind=kit.kind, side=opposite(kit.side), joints=joints, options=kit.options,
        places={k: (-p[0], p[1], p[2]) for k, p in kit.places.items()},
    )  # fmt: skip
    if clash and clash in KINDS[kit.kind].moves(made):
        raise StepRefused(f"{clash} is moved by the kit “{held[clash]}”.", other, "Take that kit off first.")
    result = add_kit(character, made)
    result = _alike(result, kit, made)
    return _ruled_alike(result, kit.name, made.name)


def _partner(character: Character, joint: str) -> str:
    other = opposite_name(joint)
    return other if other in character.joint_index else joint


def _alike(character: Character, kit: Kit, made: Kit) -> Character:
    """The new kit's controls with the old one's channels, sets, shapes and sizes."""
    model = {":".join(opposite_name(p) for p in c.key.split(":")): c for c in character.controls if c.kit == kit.name}
    own = {c.key: c for c in character.controls if c.kit == made.name}
    changed: dict[str, Control] = {}
    for key, c in own.items():
        was = model.get(key)
        if was is None:
            continue
        now = c.model_copy(update={"channels": was.channels, "level": was.level, "label": was.label})
        if was.shape or was.grow != 1.0:
            now = shaped(character, now, was.shape, was.grow)
        changed[c.name] = now
    return character.with_(controls=tuple(changed.get(c.name, c) for c in character.controls))


def _ruled_alike(character: Character, kit: str, made: str) -> Character:
    """The new kit's rules are the mirror images of the old one's."""
    bare = character.with_(rules=tuple(r for r in character.rules if r.kit != made))
    images = [mirrored_rule(bare, r).model_copy(update={"kit": made}) for r in character.rules if r.kit == kit]
    return with_rules(bare, images)


def other_things(character: Character, things: set[Ref]) -> dict[Ref, Ref]:
    """Each thing and the one that stands for it on the other side; what has none stays."""
    shapes = {s.name for s in character.shapes}

    def other(thing: Ref) -> Ref:
        if thing.kind == "joint":
            return Ref.joint(_partner(character, thing.name))
        if thing.kind == "control":
            return Ref.control(opposite_control(character, thing.name))
        name = opposite_name(thing.name)
        return Ref.shape(name) if thing.kind == "shape" and name in shapes else thing

    return {thing: other(thing) for thing in things}


def mirrored_rule(character: Character, rule: Rule) -> Rule:
    """The rule on the other side: its things exchanged for their partners, what it sets mirrored."""
    words = [opposite_name(w) for w in rule.name.split(" ")]
    image: Rule = rule.mirrored(_Other(character, other_things(character, rule.speaks_of())))
    return image.model_copy(update={"name": " ".join(words)})


class _Other:
    """The other side of a character, as rules ask for it: read from both rest frames."""

    def __init__(self, character: Character, names: dict[Ref, Ref]) -> None:
        self.character, self.names = character, names

    def _pair(self, thing: Ref) -> tuple[Control, Control] | None:
        own, other = (_movable(self.character, t) for t in (thing, self.names.get(thing, thing)))
        return None if own is None or other is None else (own, other)

    def values(self, thing: Ref, given: Mapping[str, float]) -> dict[str, float]:
        pair = self._pair(thing)
        return mirrored_values(*pair, dict(given)) if pair else dict(given)

    def signs_alone(self, thing: Ref) -> bool:
        pair = self._pair(thing)
        return pair is None or _signs_alone(*pair)

    def turns_over(self, thing: Ref, kind: str, channel: str) -> bool:
        pair = self._pair(thing)
        if pair is None or kind in ("distance", "swing", "toward"):
            return False
        if kind == "channel":
            return self.values(thing, {channel: 1.0}).get(channel, 1.0) < 0
        axes = [OWN[j.hinge if kind == "bend" else j.aim] for j in (_joint(self.character, c) for c in pair)]
        small = 0.01  # an angle so small that turns about the three axes are its parts along them
        turned = self.values(thing, {f"turn {k}": small * v for k, v in zip("xyz", axes[0], strict=True)})
        return sum(turned.get(f"turn {k}", 0.0) * v for k, v in zip("xyz", axes[1], strict=True)) < 0


def _joint(character: Character, stand_in: Control) -> Joint:
    return character.joint(stand_in.name)


def _movable(character: Character, thing: Ref) -> Control | None:
    """A control, or what a joint would be as one: its frame at rest, with every channel a follower may have."""
    name = thing.name
    if thing.kind == "control":
        return character.control_named[name]
    if thing.kind != "joint":
        return None
    j = character.joint(name)
    channels = tuple(Channel(name=f"{k} {a}", kind=k) for k in ("move", "turn", "size") for a in "xyz")
    return Control(
        name=name, kit="", place=j.place, turn=j.turn, order=j.order, channels=(*channels, Channel(name="size"))
    )


def _signs_alone(own: Control, other: Control) -> bool:
    """Whether mirroring only turns signs: the partner's axes are the reflected ones, each one way or the other."""
    a, b = (matrix_from_quaternion(c.turn) for c in (own, other))
    across = b.T @ (a * [[-1.0], [1.0], [1.0]])
    return own.order == other.order and bool(np.allclose(np.abs(across), np.eye(3), atol=1e-9))
