"""Steps of the rules: what follows, what leads, what springs and swings, and in which order all is solved."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Inputs, Lead, Link, Number, Ref, Rule, Spring, Swing, Swinger
from ..core.character.references import things_of
from ..core.errors import NotFound, StepRefused
from ..core.rig import compile_rig
from ..core.rig.fitting import with_rules, with_wanted_channels
from ..core.rig.mirror import mirrored_pose, opposite_control
from ..core.rig.opposite import mirrored_rule, other_things
from ..core.rig.recording import keyed, lead_rest, recorded, zero_at_rest
from ..core.tolerances import TINY
from .registry import Params, step

BEAT = "wing beat"


class AddRule(Params):
    rule: Rule
    both_sides: bool = Field(True, description="the same on the partners' side, where there is one")


def _named(rule: Rule) -> str:
    return f"the {rule.kind} rule {rule.name}"


def _settled(character: Character, rule: Rule) -> Rule:
    rule.check(things_of(character))
    if isinstance(rule, Link):
        rule, _ = zero_at_rest(rule, lead_rest(character, rule))
    return rule


@step("rules.add", AddRule, lambda c, p: f"Made {_named(p.rule)}")
def add(character: Character, p: AddRule) -> Character:
    """Make a rule: follow, space, link, spring or swing; nothing moves when it is made."""
    if p.rule.kit and p.rule.kit not in {k.name for k in character.kits}:
        raise NotFound(f"There is no kit called “{p.rule.kit}”.", p.rule.name)
    made = [_settled(character, p.rule)]
    exchanged = other_things(character, p.rule.speaks_of())
    if p.both_sides and _leads_elsewhere(p.rule, exchanged):
        made.append(mirrored_rule(character, made[0]))
    result = with_rules(character, made)
    compile_rig(result)
    return result


def _leads_elsewhere(rule: Rule, exchanged: Mapping[Ref, Ref]) -> bool:
    """Whether what the rule is laid on has a partner: then it has a mirror image."""
    own = rule.subjects()
    others = {exchanged.get(t, t) for t in own}
    return others != own  # the same set: both sides are in the one rule already, or it has no other side


class Wind(Params):
    strength: float = Field(3.0, ge=0, le=50, description="metres a second squared; 0: none")
    heading: float = Field(
        90.0, ge=-360, le=360, description="degrees from ahead to the figure's left, where it blows to"
    )
    gusts: float = Field(0.5, gt=0, le=20, description="times a second")


@step("rules.wind", Wind, lambda c, p: "Let a wind blow" if p.strength else "Let the wind lie down")
def wind(character: Character, p: Wind) -> Character:
    """Let a wind pull at everything that springs: hanging chains, ears, tails; only in motion."""
    if not any(isinstance(r, Spring) for r in character.rules):
        raise StepRefused(
            "Nothing springs that a wind could move.", character.name, "Let a chain spring first, at Rules."
        )
    a = np.radians(p.heading)
    way = (float(p.strength * np.sin(a)), 0.0, float(p.strength * np.cos(a)))
    return character.with_(
        rules=tuple(
            r.model_copy(update={"wind": way, "gusts": p.gusts}) if isinstance(r, Spring) else r
            for r in character.rules
        )
    )


class WingBeat(Params):
    rate: float = Field(2.0, gt=0, le=60, description="beats a second")
    flap: float = Field(0.7, gt=0, le=1, description="how far up and down, of all that wings can")
    curl: float = Field(0.3, ge=0, le=1, description="how far the outer wing gives way")
    lag: float = Field(0.15, ge=0, le=0.5, description="share of a beat by which the outer wing comes after the arm")


@step("rules.beat", WingBeat, lambda c, p: f"Let the wings beat {p.rate:g} times a second")
def beat(character: Character, p: WingBeat) -> Character:
    """Let both wings beat on one rate, the outer wing after the arm; an older beat gives way."""
    wings = {k.name for k in character.kits if k.kind == "wing"}
    swingers = [
        Swinger(control=c.name, channel=channel, angle=far, phase=phase)
        for c in character.controls
        if c.kit in wings
        for channel, far, phase in (("flap", p.flap, 0.0), ("curl", p.curl, -p.lag))
        if far and any(k.name == channel and not k.locked for k in c.channels)
    ]
    if not swingers:
        raise StepRefused("It has no wings that could beat.", character.name, "Put the kits on wings first.")
    left = character.with_(rules=tuple(r for r in character.rules if r.name != BEAT))
    return add(left, AddRule(rule=Swing(name=BEAT, rate=p.rate, swingers=tuple(swingers))))


class SwingOne(Params):
    control: str = Field(description="the control that swings")
    channel: str = Field(description="which of its channels")
    angle: Number = Field(description="how far to each side: radians, metres for moves")
    rate: float = Field(1.0, gt=0, le=60, description="rounds a second")
    phase: Number = Field(0.0, description="where in the round it begins, as a share")
    both_sides: bool = Field(True, description="its partner swings in the same rule, as its mirror image")


@step("rules.swing", SwingOne, lambda c, p: f"Let {p.channel} of {p.control} swing")
def swing(character: Character, p: SwingOne) -> Character:
    """Let a channel swing to and fro, and its partner's with it in one rule, on one rate."""
    if p.control not in {c.name for c in character.controls}:
        raise NotFound(f"There is no control called “{p.control}”.", character.name, "Choose one of its controls.")
    swingers = [Swinger(control=p.control, channel=p.channel, angle=p.angle, phase=p.phase)]
    other = opposite_control(character, p.control) if p.both_sides else p.control
    if other != p.control:
        image = mirrored_pose(character, {p.control: {p.channel: p.angle}}).get(other, {})
        swingers += [
            Swinger(control=other, channel=channel, angle=angle, phase=p.phase)
            for channel, angle in image.items()
            if abs(angle) > TINY
        ]
    rule = Swing(name=f"{p.control} swing", rate=p.rate, swingers=tuple(swingers))
    return add(character, AddRule(rule=rule, both_sides=False))


class NamedRule(Params):
    name: str


def _find(character: Character, name: str) -> Rule:
    for r in character.rules:
        if r.name == name:
            return r
    raise NotFound(f"There is no rule called “{name}”.", character.name, "Reload the page.")


def _with(character: Character, old: Rule, new: Rule) -> Character:
    """One rule in the place of another."""
    return character.with_(rules=tuple(new if r is old else r for r in character.rules))


@step("rules.remove", NamedRule, lambda c, p: f"Took away the rule {p.name}")
def remove(character: Character, p: NamedRule) -> Character:
    """Take a rule away; a space's channels go with it, and what they led."""
    rule = _find(character, p.name)
    return character.with_(
        rules=tuple(r for r in character.rules if r is not rule), order=tuple(n for n in character.order if n != p.name)
    )


class EditRule(Params):
    name: str
    rule: Rule


@step("rules.edit", EditRule, lambda c, p: f"Changed {_named(p.rule)}")
def edit(character: Character, p: EditRule) -> Character:
    """Put a rule in the place of another, under its name."""
    old = _find(character, p.name)
    new = _settled(character, p.rule).model_copy(update={"name": old.name, "kit": old.kit})
    result = with_wanted_channels(_with(character, old, new))
    compile_rig(result)
    return result


class Switch(Params):
    name: str
    on: bool


@step("rules.switch", Switch, lambda c, p: f"Switched the rule {p.name} {'on' if p.on else 'off'}")
def switch(character: Character, p: Switch) -> Character:
    """Switch a rule on or off; it stays where it is."""
    old = _find(character, p.name)
    new = old.model_copy(update={"on": p.on})
    result = _with(character, old, new)
    compile_rig(result)
    return result


class Record(Params):
    link: str = Field("", description="the link that takes the key; empty: that of the lead, or a new one")
    lead: Lead | None = None
    at: Number
    values: Inputs = Field(description="what was posed by hand: control → channel → value")
    both_sides: bool = True


@step(
    "rules.record",
    Record,
    lambda c, p: f"Recorded a pose at {p.at:.3g} of {p.link or (p.lead.channel if p.lead else '')}",
)
def record(character: Character, p: Record) -> Character:
    """At this value of the lead, this pose: a key for every channel that was posed, on both sides."""
    if p.link:
        found = _find(character, p.link)
        if not isinstance(found, Link):
            raise StepRefused(f"“{p.link}” is no link.", character.name, "Choose a link.")
        link: Link = found
    elif p.lead is not None:
        link = _link_of(character, p.lead)
    else:
        raise StepRefused("A lead is wanted.", "rules.record", "Choose what leads.")
    made = recorded(character, link, p.at, p.values, lead_rest(character, link))
    made.check(things_of(character))
    named = {r.name for r in character.rules}
    if made.name in named:
        result = character.with_(rules=tuple(made if r.name == made.name else r for r in character.rules))
    else:
        result = with_rules(character, [made])
    if p.both_sides:
        result = _on_the_other_side(result, made)
    compile_rig(result)
    return result


def _link_of(character: Character, lead: Lead) -> Link:
    for r in character.rules:
        if isinstance(r, Link) and r.lead == lead and not r.name.endswith(" slide"):
            return r
    thing = lead.thing.name
    kit = next((c.kit for c in character.controls if Ref.control(c.name) == lead.thing), "")
    return Link(name=f"{thing} {lead.channel or lead.kind}", kit=kit, lead=lead)


def _on_the_other_side(character: Character, link: Link) -> Character:
    """The partner's link becomes the mirror image of this one."""
    exchanged = other_things(character, link.speaks_of())
    if exchanged.get(link.lead.thing, link.lead.thing) == link.lead.thing:
        return character
    image = mirrored_rule(character, link)
    assert isinstance(image, Link)
    old = next(
        (r for r in character.rules if isinstance(r, Link) and r.lead == image.lead and r.name != link.name), None
    )
    if old is not None:
        image = image.model_copy(update={"name": old.name, "kit": old.kit})
        return _with(character, old, image)
    kit = next((c.kit for c in character.controls if Ref.control(c.name) == image.lead.thing), "")
    return with_rules(character, [image.model_copy(update={"kit": kit})])


class Key(Params):
    link: str
    follower: int = Field(ge=0)
    at: Number
    value: Number
    was: Number | None = Field(None, description="the key that is moved; none: a new one")
    drop: bool = Field(False, description="take that key away instead")


@step("rules.key", Key, lambda c, p: f"{'Took away' if p.drop else 'Set'} a key of the link {p.link}")
def key(character: Character, p: Key) -> Character:
    """Move a key of a link's curve, or set a new one."""
    link = _find(character, p.link)
    if not isinstance(link, Link) or p.follower >= len(link.followers):
        raise NotFound("There is no such curve.", p.link, "Reload the page.")
    f = link.followers[p.follower]
    curve = f.curve
    if p.was is not None:
        left = tuple(k for k in curve.keys if abs(k.at - p.was) > 1e-9)
        if len(left) == len(curve.keys):
            raise NotFound(f"There is no key at {p.was:g}.", p.link, "Reload the page.")
        curve = curve.model_copy(update={"keys": left}) if left else curve
    if p.drop and (p.was is None or len(f.curve.keys) < 2):
        raise StepRefused("A curve keeps one key at least.", p.link, "Take the link away instead.")
    rest = lead_rest(character, link)
    new = f.model_copy(update={"curve": curve if p.drop else keyed(curve, p.at, p.value)})
    followers = tuple(new if i == p.follower else x for i, x in enumerate(link.followers))
    changed, _ = zero_at_rest(link.model_copy(update={"followers": followers}), rest)
    result = _with(character, link, changed)
    compile_rig(result)
    return result


class Order(Params):
    group: str = Field(description="a kit or a rule")
    to: Literal["up", "down"]


@step("rules.order", Order, lambda c, p: f"Moved {p.group} {p.to} in the order of solving")
def order(character: Character, p: Order) -> Character:
    """Move a kit or rule up or down in the order of solving, where what it reads allows that."""
    program = compile_rig(character)
    groups = list(dict.fromkeys(o.group for o in program.operations))
    if p.group not in groups:
        raise NotFound(f"Nothing is solved for “{p.group}”.", character.name, "Reload the page.")
    i = groups.index(p.group)
    j = i + (1 if p.to == "down" else -1)
    if not 0 <= j < len(groups):
        raise StepRefused(f"{p.group} is {'last' if p.to == 'down' else 'first'} already.", character.name)
    other = groups[j]
    groups[i], groups[j] = groups[j], groups[i]
    result = character.with_(order=tuple(groups))
    now = list(dict.fromkeys(o.group for o in compile_rig(result).operations))
    if now.index(p.group) - now.index(other) != (1 if p.to == "down" else -1) and (
        now.index(p.group) < now.index(other)
    ) == (p.to == "down"):
        first, second = (other, p.group) if p.to == "up" else (p.group, other)
        before = {w: o for o in program.operations if o.group == first for w in o.writes}
        why = next(
            (
                f"“{o.sentence}” reads {r.split(':', 1)[-1]}, which “{before[r].sentence}” writes"
                for o in program.operations if o.group == second for r in o.reads if r in before
            ),
            "one of them reads what the other writes",
        )  # fmt: skip
        raise StepRefused(f"{p.group} can't go {p.to} past {other}: {why}.", character.name, "Move another one.")
    return result
