"""What a character's things are called, everywhere they are spoken of: given other names, taken away, looked up."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

import numpy as np

from .boards import ACROSS, UP
from .model import Character
from .refs import GROUND, POSED, SHAPES, Inputs, Ref, renaming, rewritten
from .rules import Known, Rule

FIELDS = ("joints", "kits", "controls", "shapes", "regions", "boards", "poses", "clips")
"""Fields of a character whose rows hold names; rules rename themselves."""


def renamed(character: Character, names: Mapping[Ref, Ref]) -> Character:
    """The character with things under other names, everywhere they are spoken of: in rules, kits, poses, clips, skin."""
    changes: dict[str, object] = {"rules": tuple(r.renamed(names) for r in character.rules)}
    for field in FIELDS:
        rows = getattr(character, field)
        now = tuple(rewritten(row, names) for row in rows)
        if any(a is not b for a, b in zip(rows, now, strict=True)):
            changes[field] = now
    if character.skin is not None:
        changes["skin"] = rewritten(character.skin, names)
    return character.with_(arrays=_arrays_renamed(character, names), **changes)


def _arrays_renamed(character: Character, names: Mapping[Ref, Ref]) -> dict[str, np.ndarray | None]:
    """The arrays that bear a thing's name, as `shape/<name>/moves`, under the new one."""
    arrays = character.arrays
    out: dict[str, np.ndarray | None] = {}
    for old, new in names.items():
        for key in [k for k in arrays if k.startswith(f"{old.kind}/{old.name}/")]:
            out.setdefault(key, None)
            out[f"{new.kind}/{new.name}/" + key.rsplit("/", 1)[1]] = arrays[key]
    return out


def renames(before: Character, after: Character) -> dict[Ref, Ref]:
    """Controls and shapes that have another name now: the same things at the same places of their rows."""
    out: dict[Ref, Ref] = {}
    if len(before.controls) == len(after.controls):
        old, new = set(before.control_named), set(after.control_named)
        for a, b in zip(before.controls, after.controls, strict=True):
            if a.name != b.name and a.kit == b.kit and a.name not in new and b.name not in old:
                out[Ref.control(a.name)] = Ref.control(b.name)
    if len(before.shapes) == len(after.shapes):
        old, new = {s.name for s in before.shapes}, {s.name for s in after.shapes}
        for s, t in zip(before.shapes, after.shapes, strict=True):
            if s.name != t.name and s.name not in new and t.name not in old:
                out[Ref.shape(s.name)] = Ref.shape(t.name)
    if len(before.boards) == len(after.boards):
        old, new = {b.name for b in before.boards}, {b.name for b in after.boards}
        for p, q in zip(before.boards, after.boards, strict=True):
            if p.name != q.name and p.name not in new and q.name not in old:
                out[Ref.board(p.name)] = Ref.board(q.name)
    return out


def renamed_values(values: Inputs, names: Mapping[Ref, Ref]) -> Inputs:
    """A pose with its controls and shapes under their new names."""
    return POSED.walk(values, renaming(names))


def known_values(character: Character, values: Inputs) -> Inputs:
    """What of a pose the character has controls, channels and shapes for."""
    known = {c.name: {k.name for k in c.channels} for c in character.controls}
    known[SHAPES] = known.get(SHAPES, set()) | {s.name for s in character.shapes}
    known |= {str(Ref.board(b.name)): {ACROSS, UP} for b in character.boards}
    kept = {c: {k: v for k, v in given.items() if k in known.get(c, ())} for c, given in values.items()}
    return {c: given for c, given in kept.items() if given}


def things_of(character: Character) -> Known:
    """What is there to be spoken of."""
    known = {Ref.joint(j.name) for j in character.joints} | {Ref.control(c.name) for c in character.controls}
    known |= {Ref.shape(s.name) for s in character.shapes} | {GROUND}
    known |= {Ref.board(b.name) for b in character.boards} | {Ref.of("region", r.name) for r in character.regions}
    return Known(known, {c.name: {k.name for k in c.channels} for c in character.controls})


def without(character: Character, gone: Iterable[Ref]) -> Character:
    """The character once these things are gone: rules lose what they spoke of, and go where nothing is left."""
    lost = set(gone)

    def less(rule: Rule) -> Rule | None:
        return rule if lost.isdisjoint(rule.speaks_of()) else rule.without(lost)

    return _ruled(character, less) if lost else character


def without_channels(character: Character, gone: Mapping[str, set[str]]) -> Character:
    """The character's rules once these channels (control → names) are gone: what they led, followed and swung is too."""

    def less(rule: Rule) -> Rule | None:
        left: Rule | None = rule
        for control, channels in gone.items():
            left = left and left.without_channels(control, channels)
        return left

    return _ruled(character, less) if gone else character


def _ruled(character: Character, less: Callable[[Rule], Rule | None]) -> Character:
    rules = tuple(r for r in map(less, character.rules) if r is not None)
    if len(rules) == len(character.rules) and all(a is b for a, b in zip(rules, character.rules, strict=True)):
        return character
    return character.with_(rules=rules)
