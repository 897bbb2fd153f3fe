"""Digits: fingers or toes under one control."""

from __future__ import annotations

import numpy as np

from ...character import Channel, Character, Control, Curve, CurveKey, Follower, Kit, Lead, Link, Ref, Rule
from ...errors import BadParameters
from ...geometry.rotations import matrix_from_quaternion, unit
from .led import Led, ValueTurns, curled, fanned, hinge_of, link_from_turns, tip_of


class Digits(Led):
    kind = "digits"
    about = (
        "Fingers or toes under one control: curl, spread, fist, thumb tuck, cup and gestures, all recorded by posing."
    )
    lead_word = "fingers"
    along = 0.0  # over the knuckles
    roles = {
        "thumb": (0, 6, "the thumb, from its first joint"),
        **{f"digit {i}": (0, 6, f"digit {i}, from its first joint") for i in range(1, 9)},
        "palm": (0, 8, "palm joints, which cup with a falloff to the wrist"),
    }
    named = {
        "curl": curled(-0.35, 1.25, ("thumb", "palm")),
        "spread": fanned(0.35, ("thumb", "palm")),
        "fist": lambda c, k: _fist(c, k),
        "thumb tuck": lambda c, k: _tuck(c, k),
        "cup": lambda c, k: _cup(c, k),
        "point": lambda c, k: _pointing(c, k),
        "open": lambda c, k: _opened(c, k),
    }  # fmt: skip

    def check(self, character: Character, kit: Kit) -> None:
        super().check(character, kit)
        if not self.chains(kit):
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
        lead = self.lead_of(character, kit)
        has = {c.name for c in lead.channels}
        made = [r for r in super().rules(character, kit) if isinstance(r, Link) and r.lead.channel in has]
        for role, names in kit.joints.items():
            if role.startswith("digit ") and names:
                one = kit.model_copy(update={"joints": {role: names}})
                channel = role.replace("digit", "curl")
                made.append(link_from_turns(character, kit, lead.name, channel, curled(-0.35, 1.25)(character, one)))
        grow = Curve(keys=(CurveKey(at=-1, value=-1), CurveKey(at=1, value=1)), past="continue")
        followers = tuple(
            Follower(thing=Ref.joint(n), channel="size", curve=grow) for names in self.chains(kit) for n in names
        )
        size = Lead(thing=Ref.control(lead.name), channel="size")
        return [*made, Link(name=f"{kit.name} size", kit=kit.name, lead=size, followers=followers)]


def _fist(character: Character, kit: Kit) -> ValueTurns:
    """Everything closed; backwards everything wide open, digits spread."""
    closed = curled(-0.45, 1.45, ("thumb", "palm"))(character, kit)
    apart = fanned(0.4, ("thumb", "palm"))(character, kit)
    for n, at in apart.items():
        closed[n][-1.0] = closed[n][-1.0] + at[1.0]
    for n, at in _tuck(character, kit).items():
        closed[n] = {-1.0: at[-1.0], 1.0: at[1.0]}
    return closed


def _tuck(character: Character, kit: Kit) -> ValueTurns:
    """The thumb brought over the palm: its first joint swings towards the middle of the digits, the others close."""
    thumb = kit.joints.get("thumb", ())
    firsts = [character.joint(n[0]) for r, n in kit.joints.items() if r.startswith("digit ") and n]
    if not thumb or not firsts:
        return {}
    first = character.joint(thumb[0])
    axes = matrix_from_quaternion(first.turn)
    place, tip = np.array(first.place), tip_of(character, character.joint(thumb[-1]))
    goal = np.mean([j.place for j in firsts], axis=0)
    axis = np.cross(unit(tip - place), unit(goal - place))
    size = float(np.linalg.norm(axis))
    angle = 0.75 * float(np.arctan2(size, unit(tip - place) @ unit(goal - place)))
    own = axes.T @ (axis / max(size, 1e-9)) * angle
    out: ValueTurns = {thumb[0]: {-1.0: -0.5 * own, 1.0: own}}
    for n in thumb[1:]:
        out[n] = {-1.0: -0.3 * hinge_of(character.joint(n)), 1.0: 0.8 * hinge_of(character.joint(n))}
    return out


def _cup(character: Character, kit: Kit) -> ValueTurns:
    """Palm joints close about their hinges, those farther from the thumb's side more: the falloff to the wrist."""
    palm = kit.joints.get("palm", ())
    return {
        n: {v: v * 0.45 * (i + 1) / len(palm) * hinge_of(character.joint(n)) for v in (-1.0, 1.0)}
        for i, n in enumerate(palm)
    }


def _pointing(character: Character, kit: Kit) -> ValueTurns:
    """The first digit straight, the others and the thumb closed."""
    first = next((r for r in kit.joints if r.startswith("digit ")), "")
    return {
        n: {1.0: at[1.0]}
        for n, at in _fist(
            character, kit.model_copy(update={"joints": {r: n for r, n in kit.joints.items() if r != first}})
        ).items()
    }


def _opened(character: Character, kit: Kit) -> ValueTurns:
    return {n: {1.0: at[-1.0]} for n, at in _fist(character, kit).items()}
