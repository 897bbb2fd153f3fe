"""Keeping rules true when joints and controls are renamed or go away."""

from __future__ import annotations

from ..errors import BadParameters, NotFound
from .model import Character, Inputs
from .rules import Follow, Link, Rule, Space, Spring, Swing


def _now(renames: dict[str, str], thing: str) -> str:
    return renames.get(thing, thing)


def renamed_rule(rule: Rule, renames: dict[str, str]) -> Rule:
    """The rule with every thing (`joint:…`, `control:…`, `shape:…`) under its new name."""
    if isinstance(rule, Follow):
        return rule.model_copy(
            update={"thing": _now(renames, rule.thing), "sources": tuple(_now(renames, s) for s in rule.sources)}
        )
    if isinstance(rule, Space):
        return rule.model_copy(
            update={
                "control": _now(renames, f"control:{rule.control}")[8:],
                "sources": tuple(_now(renames, s) for s in rule.sources),
                # the channels keep the names that saved poses know
                "labels": rule.labels or tuple(s.split(":", 1)[-1] for s in rule.sources),
            }
        )
    if isinstance(rule, Link):
        lead = rule.lead.model_copy(
            update={"thing": _now(renames, rule.lead.thing), "other": _now(renames, rule.lead.other)}
        )
        followers = tuple(f.model_copy(update={"thing": _now(renames, f.thing)}) for f in rule.followers)
        return rule.model_copy(update={"lead": lead, "followers": followers})
    if isinstance(rule, Spring):
        return rule.model_copy(update={"things": tuple(_now(renames, t) for t in rule.things)})
    swingers = tuple(s.model_copy(update={"control": _now(renames, f"control:{s.control}")[8:]}) for s in rule.swingers)
    return rule.model_copy(update={"swingers": swingers})


def renames(before: Character, after: Character) -> dict[str, str]:
    """Controls (`control:…`) and shapes (`shape:…`) that have another name now: the same things at the same places of
    their rows."""
    out: dict[str, str] = {}
    if len(before.controls) == len(after.controls):
        old, new = set(before.control_named), set(after.control_named)
        for a, b in zip(before.controls, after.controls, strict=True):
            if a.name != b.name and a.kit == b.kit and a.name not in new and b.name not in old:
                out[f"control:{a.name}"] = f"control:{b.name}"
    if len(before.shapes) == len(after.shapes):
        old, new = {s.name for s in before.shapes}, {s.name for s in after.shapes}
        for s, t in zip(before.shapes, after.shapes, strict=True):
            if s.name != t.name and s.name not in new and t.name not in old:
                out[f"shape:{s.name}"] = f"shape:{t.name}"
    return out


def renamed_values(values: Inputs, names: dict[str, str]) -> Inputs:
    """A pose with its controls and shapes under their new names."""
    return {
        _now(names, f"control:{c}")[8:]: {
            _now(names, f"shape:{k}")[6:] if c == "shapes" else k: v for k, v in given.items()
        }
        for c, given in values.items()
    }


def known_values(character: Character, values: Inputs) -> Inputs:
    """What of a pose the character has controls, channels and shapes for."""
    known = {c.name: {k.name for k in c.channels} for c in character.controls}
    known["shapes"] = known.get("shapes", set()) | {s.name for s in character.shapes}
    kept = {c: {k: v for k, v in given.items() if k in known.get(c, ())} for c, given in values.items()}
    return {c: given for c, given in kept.items() if given}


def things_of(rule: Rule) -> set[str]:
    """Everything that a rule speaks of."""
    if isinstance(rule, Follow):
        return {rule.thing, *rule.sources}
    if isinstance(rule, Space):
        return {f"control:{rule.control}", *rule.sources}
    if isinstance(rule, Link):
        return {rule.lead.thing, rule.lead.other, *(f.thing for f in rule.followers)} - {""}
    if isinstance(rule, Spring):
        return set(rule.things)
    return {f"control:{s.control}" for s in rule.swingers}


def without(character: Character, gone: set[str]) -> Character:
    """The character once these things are gone: rules lose what they spoke of, and go where nothing is left."""
    kept: list[Rule] = []
    for rule in character.rules:
        if gone.isdisjoint(things_of(rule)):
            kept.append(rule)
            continue
        less = _less(rule, gone)
        if less is not None:
            kept.append(less)
    return character.with_(rules=tuple(kept))


def _less(rule: Rule, gone: set[str]) -> Rule | None:
    if isinstance(rule, Follow):
        pairs = [
            (s, rule.weights[i] if i < len(rule.weights) else 1.0) for i, s in enumerate(rule.sources) if s not in gone
        ]
        if rule.thing in gone or not pairs:
            return None
        return rule.model_copy(update={"sources": tuple(s for s, _ in pairs), "weights": tuple(w for _, w in pairs)})
    if isinstance(rule, Space):
        labels = rule.labels or tuple(s.split(":", 1)[-1] for s in rule.sources)
        left = [(s, w) for s, w in zip(rule.sources, labels, strict=True) if s not in gone]
        if f"control:{rule.control}" in gone or not left:
            return None
        return rule.model_copy(update={"sources": tuple(s for s, _ in left), "labels": tuple(w for _, w in left)})
    if isinstance(rule, Link):
        if rule.lead.thing in gone or (rule.lead.kind == "distance" and rule.lead.other in gone):
            return None
        return rule.model_copy(update={"followers": tuple(f for f in rule.followers if f.thing not in gone)})
    if isinstance(rule, Spring):
        left_things = tuple(t for t in rule.things if t not in gone)
        return rule.model_copy(update={"things": left_things}) if left_things else None
    swingers = tuple(s for s in rule.swingers if f"control:{s.control}" not in gone)
    return rule.model_copy(update={"swingers": swingers}) if swingers else None


def without_channels(character: Character, control: str, gone: set[str]) -> Character:
    """The character once these channels of a control are gone, and with them what they led, followed and swung."""
    thing = f"control:{control}"
    controls = tuple(
        c.model_copy(update={"channels": tuple(k for k in c.channels if k.name not in gone)})
        if c.name == control
        else c
        for c in character.controls
    )
    rules: list[Rule] = []
    for r in character.rules:
        if isinstance(r, Link):
            if r.lead.kind == "channel" and r.lead.thing == thing and r.lead.channel in gone:
                continue
            kept = tuple(f for f in r.followers if f.thing != thing or f.channel not in gone)
            r = r if len(kept) == len(r.followers) else r.model_copy(update={"followers": kept})
        elif isinstance(r, Swing):
            left = tuple(s for s in r.swingers if s.control != control or s.channel not in gone)
            if not left:
                continue
            r = r if len(left) == len(r.swingers) else r.model_copy(update={"swingers": left})
        rules.append(r)
    return character.with_(controls=controls, rules=tuple(rules))


Known = tuple[set[str], dict[str, set[str]]]


def known_things(character: Character) -> Known:
    """Everything that a rule may speak of, and each control's channels."""
    known = {f"joint:{j.name}" for j in character.joints} | {f"control:{c.name}" for c in character.controls}
    known |= {f"shape:{s.name}" for s in character.shapes} | {"ground"}
    return known, {c.name: {k.name for k in c.channels} for c in character.controls}


def checked(character: Character, rule: Rule, told: Known | None = None) -> None:
    """`told`: what `known_things` gave, for many rules in a row.  Raises NotFound for a rule that speaks of what isn't there, BadParameters for one led by what can't lead so."""
    known, channels = told or known_things(character)
    for thing in sorted(things_of(rule)):
        if thing not in known:
            kind, _, name = thing.partition(":")
            raise NotFound(f"There is no {kind} called “{name}”.", rule.name, "Choose one that is there.")

    def has(control: str, channel: str) -> None:
        if channel not in channels.get(control, ()):
            raise NotFound(f"{control} has no channel “{channel}”.", rule.name, "Choose one that it has, or add it.")

    if isinstance(rule, Link):
        kind = "control" if rule.lead.kind == "channel" else "" if rule.lead.kind == "distance" else "joint"
        if not rule.lead.thing.startswith(f"{kind}:" if kind else ""):
            raise BadParameters(
                f"{rule.lead.thing.partition(':')[2] or 'the ground'} is no {kind}, so it has no {rule.lead.kind} to lead by.",
                rule.name, f"Choose a {kind}.",
            )  # fmt: skip
        if rule.lead.kind == "channel":
            has(rule.lead.thing[8:], rule.lead.channel)
        for f in rule.followers:
            if f.thing.startswith("control:"):
                has(f.thing[8:], f.channel)
    if isinstance(rule, Swing):
        for s in rule.swingers:
            has(s.control, s.channel)
