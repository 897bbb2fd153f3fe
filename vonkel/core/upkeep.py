"""What follows from a change, made true again: run once after every step, whatever the step was.

A step changes what it is about.  That channels of a space go with it, that rules lose what they spoke of, and that
controls stand where their joints now are, is nobody's business but this room's.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .character import Character
from .character.references import things_of, without, without_channels
from .rig.fitting import with_controls_anew

Job = Callable[[Character, Character], Character]


def kept_up(after: Character, before: Character) -> Character:
    """`after`, which a step made of `before`, with all that follows from the change."""
    for job in JOBS:
        after = job(after, before)
    return after


def drop_unwanted_channels(after: Character, before: Character) -> Character:
    """Channels that only a rule wanted, and that no rule wants any longer."""
    if after.rules is before.rules:
        return after
    unwanted = _wanted(before) - _wanted(after)
    if not unwanted:
        return after
    controls = tuple(
        c.model_copy(update={"channels": tuple(k for k in c.channels if (c.name, k.name) not in unwanted)})
        if any((c.name, k.name) in unwanted for k in c.channels)
        else c
        for c in after.controls
    )
    return after.with_(controls=controls)


def _wanted(character: Character) -> set[tuple[str, str]]:
    return {(c, n) for r in character.rules for c, names in r.wanted_channels().items() for n in names}


def lose_what_is_gone(after: Character, before: Character) -> Character:
    """Rules lose the things and channels that went, and go where nothing is left of them."""
    if not after.rules or (
        after.joints is before.joints and after.controls is before.controls and after.shapes is before.shapes
    ):
        return after
    was, now = things_of(before), things_of(after)
    after = without(after, was.things - now.things)
    gone = {c: names - now.channels[c] for c, names in was.channels.items() if c in now.channels}
    return without_channels(after, {c: names for c, names in gone.items() if names})


def make_controls_anew(after: Character, before: Character) -> Character:
    """The controls of kits whose joints, or the bones above them, moved, turned or may turn otherwise now.

    Not of kits that the step put on, nor of those whose controls it carried along itself.
    """
    if after.joints is before.joints:
        return after
    old = {j.name: j for j in before.joints}
    moved = {j.name for j in after.joints if old.get(j.name) != j}
    moved |= {after.joint(n).parent or n for n in moved}
    was = {c.name: (c.place, c.turn) for c in before.controls}
    known = {k.name for k in before.kits}
    settled = {c.kit for c in after.controls if was.get(c.name, (c.place, c.turn)) != (c.place, c.turn)}
    stale = {
        k.name
        for k in after.kits
        if k.name in known - settled and any(n in moved for names in k.joints.values() for n in names)
    }
    return with_controls_anew(after, stale) if stale else after


def unlock_what_is_gone(after: Character, before: Character) -> Character:
    """Locks go with the holders that they were on."""
    skin = after.skin
    if skin is None or skin is before.skin or set(skin.locked) <= set(skin.joints):
        return after
    return after.with_(skin=skin.model_copy(update={"locked": tuple(n for n in skin.locked if n in skin.joints)}))


def drop_what_went_out(after: Character, before: Character) -> Character:
    """The skin that goes out goes where it can't be of this mesh or these joints any more."""
    skin = after.skin
    if "handed/joints" not in after.arrays and (skin is None or skin.handed is None):
        return after
    known = set(after.joint_index)
    if (
        skin is not None
        and skin.handed is not None
        and len(after.arrays.get("handed/joints", ())) == len(after.points)
        and before.skin is not None
        and len(before.skin.joints) == len(skin.joints)
        and all({h.a, h.b} <= known and h.name not in known for h in skin.handed.between)
        and all(t.joint in known for t in skin.handed.correctives)
    ):
        return after
    gone: dict[str, np.ndarray | None] = {n: None for n in after.arrays if n.startswith("handed/")}
    return after.with_(skin=skin and skin.model_copy(update={"handed": None}), arrays=gone)


JOBS: tuple[Job, ...] = (
    drop_unwanted_channels,
    lose_what_is_gone,
    make_controls_anew,
    unlock_what_is_gone,
    drop_what_went_out,
)
"""In their order: channels go with their rules before rules lose what went."""
