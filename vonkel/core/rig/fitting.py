"""Putting kits on and taking them off, and making their controls anew."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from pydantic import ValidationError

from ..character import Channel, Character, Control, Kit, Ref, Rule, unique_name
from ..character.references import without
from ..character.words import EYE_JOINTS
from ..errors import BadParameters, NotFound, StepRefused, VonkelError, first_fault
from .compile import compile_rig
from .kits import KINDS, with_all_options
from .outlines import shaped


def sized_kits(character: Character, scale: float) -> Character:
    """The character once it was made `scale` times as large: kits' lengths with it."""

    def sized(kit: Kit) -> Kit:
        grown = {n: float(kit.options[n]) * scale for n in KINDS[kit.kind].lengths if n in kit.options}
        return kit.model_copy(update={"options": {**kit.options, **grown}}) if grown else kit

    return character.with_(kits=tuple(sized(k) for k in character.kits))


def add_kit(character: Character, kit: Kit) -> Character:
    """Put a kit on.  Its name and its controls' names are made unique.

    Raises BadParameters for joints that don't fit and StepRefused where a joint is already driven.
    """
    if kit.kind not in KINDS:
        raise NotFound(f"There is no kit “{kit.kind}”.", kit.name, f"There are: {', '.join(KINDS)}.")
    kind = KINDS[kit.kind]
    try:
        options = kind.options(**kit.options).model_dump()
    except ValidationError as error:
        field, why = first_fault(error)
        raise BadParameters(f"Option “{field}”: {why}.", kit.name) from None
    names = {k.name for k in character.kits} | {r.name for r in character.rules}
    kit = kit.model_copy(update={"options": options, "name": unique_name(kit.name, names)})
    kind.check(character, kit)  # first in its own words
    if kind.roles and not any(kit.joints.values()):
        raise BadParameters(f"A kit “{kit.kind}” wants joints.", kit.name, "Choose the joints and try again.")
    driven = driven_joints(character)
    for n in kind.moves(kit):
        if n in driven:
            raise StepRefused(f"{n} is already moved by the kit “{driven[n]}”.", kit.name, "Take that kit off first.")
    if not kit.places:
        kit = kit.model_copy(update={"places": kind.places(character, kit)})
    taken = {c.name for c in character.controls}
    made = []
    for c in kind.controls(character, kit):
        made.append(c.model_copy(update={"name": unique_name(c.name, taken)}))
        taken.add(made[-1].name)
    result = character.with_(kits=character.kits + (kit,), controls=character.controls + tuple(made))
    result = with_rules(result, kind.rules(result, kit))
    compile_rig(result)  # refuses loops and double writers now rather than at the first drag
    return result


def driven_joints(character: Character) -> dict[str, str]:
    """Joint → the kit that moves it."""
    return {n: k.name for k in character.kits if k.kind in KINDS for n in KINDS[k.kind].moves(k)}


def with_rules(character: Character, rules: Sequence[Rule]) -> Character:
    """The character with more rules: their names made unique, their controls given the channels they need."""
    names = {k.name for k in character.kits} | {r.name for r in character.rules}
    added = []
    for rule in rules:
        added.append(rule.model_copy(update={"name": unique_name(rule.name, names)}))
        names.add(added[-1].name)
    return with_wanted_channels(character.with_(rules=character.rules + tuple(added)))


def with_wanted_channels(character: Character) -> Character:
    """The character with every channel that its rules need on the controls that they need it on."""
    wanted: dict[str, list[str]] = {}
    for rule in character.rules:
        for control, channels in rule.wanted_channels().items():
            wanted.setdefault(control, []).extend(channels)

    def completed(c: Control) -> Control:
        has = {k.name for k in c.channels}
        new = tuple(Channel(name=n, low=0.0, high=1.0) for n in wanted.get(c.name, ()) if n not in has)
        return c.model_copy(update={"channels": c.channels + new}) if new else c

    return character.with_(controls=tuple(map(completed, character.controls)))


def remove_kit(character: Character, name: str) -> Character:
    """Take a kit off with its controls and rules; joints, weights and shapes stay as they are.

    Rules of one's own that spoke of its controls go too, and so do kits that lean on it alone.
    """
    if name not in {k.name for k in character.kits}:
        raise NotFound(f"There is no kit called “{name}”.", character.name)
    gone = {c.name for c in character.controls if c.kit == name}
    rules = tuple(r for r in character.rules if r.kit != name)
    bare = character.with_(
        kits=tuple(k for k in character.kits if k.name != name),
        controls=tuple(c for c in character.controls if c.kit != name),
        rules=rules,
        order=tuple(n for n in character.order if n != name),
    )
    result = without(bare, {Ref.control(n) for n in gone})
    for k in result.kits:
        try:
            KINDS[k.kind].check(result, k)
        except VonkelError:  # it leaned on the kit that is gone, as a foot does on its leg
            return remove_kit(result, k.name)
    return result


def with_controls_anew(character: Character, kits: Collection[str]) -> Character:
    """The character with these kits' controls made anew where their joints now are; kits, names and poses stay."""
    fresh = {k.name: renewed(character, k) for k in character.kits if k.name in kits}
    kept = {k.name: [c for c in character.controls if c.kit == k.name] for k in character.kits}
    return character.with_(controls=tuple(c for k in character.kits for c in fresh.get(k.name, kept[k.name])))


def renewed(character: Character, kit: Kit) -> list[Control]:
    """A kit's controls made anew where its joints are; names, channels, sets and chosen shapes stay as they were."""
    old = {c.key or c.name: c for c in character.controls if c.kit == kit.name}
    taken = {c.name for c in character.controls}
    made = []
    for c in KINDS[kit.kind].controls(character, with_all_options(kit)):
        was = old.get(c.key) or old.get(c.name)
        if was is None:
            c = c.model_copy(update={"name": unique_name(c.name, taken)})
            taken.add(c.name)
        if was is not None:
            update = {
                "name": was.name,
                "channels": _channels_kept(was.channels, c.channels),
                "level": was.level,
                "label": was.label,
                "order": c.order,
            }
            c = c.model_copy(update=update)
            if was.shape or was.grow != 1.0:
                c = shaped(character, c, was.shape, was.grow)
        made.append(c)
    return made


def _channels_kept(old: tuple[Channel, ...], new: tuple[Channel, ...]) -> tuple[Channel, ...]:
    """The new channels, but those limited by hand as they were, and those that rules or a hand added."""
    was = {k.name: k for k in old}
    own = tuple(was[k.name] if k.name in was and was[k.name].limited else k for k in new)
    return own + tuple(k for k in old if k.name not in {n.name for n in new})


def chain_below(character: Character, first: str, most: int = 64) -> tuple[str, ...]:
    """A joint and those below it, as long as each has one deforming child on its own side."""
    out = [character.joint(first)]
    while len(out) < most:
        kids = [k for k in character.children.get(out[-1].name, ()) if k.deforms and k.role not in EYE_JOINTS]
        if len(kids) != 1 or kids[0].side != out[0].side:
            break
        out.append(kids[0])
    return tuple(j.name for j in out)
