"""Steps of single controls: their shapes, sets, channels and limits."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from ..core.character import Channel, Character, Control, Name, Number, Ref
from ..core.character.references import renamed
from ..core.errors import BadParameters, NotFound, StepRefused
from ..core.rig.kits import KINDS
from ..core.rig.mirror import mirrored_values, opposite_control
from ..core.rig.outlines import SHAPES, shaped
from .registry import Params, step


class _Some(Params):
    controls: tuple[str, ...] = Field(min_length=1, max_length=500)
    both_sides: bool = True


def _chosen(character: Character, p: _Some) -> set[str]:
    named = character.control_named
    for n in p.controls:
        if n not in named:
            raise NotFound(f"There is no control called “{n}”.", character.name, "Reload the page.")
    out = set(p.controls)
    return out | {opposite_control(character, n) for n in p.controls} if p.both_sides else out


def _few(p: _Some) -> str:
    return p.controls[0] if len(p.controls) == 1 else f"{len(p.controls)} controls"


class Shape(_Some):
    shape: str = Field("", description="empty: the line that its kit gives it; or one of the shapes")
    grow: Annotated[Number, Field(gt=0.05, lt=20)] = 1.0


@step("controls.shape", Shape, lambda c, p: f"Gave {_few(p)} {'the shape ' + p.shape if p.shape else 'its own line'}")
def shape(character: Character, p: Shape) -> Character:
    """Choose a control's shape and size: a slice of the body, or one of a small set."""
    if p.shape and p.shape not in SHAPES:
        raise NotFound(f"There is no shape “{p.shape}”.", "", f"There are: {', '.join(SHAPES)}.")
    chosen = _chosen(character, p)
    kits = {k.name: k for k in character.kits}
    plain = {
        c.key: c
        for k in {character.control_named[n].kit for n in chosen}
        for c in KINDS[kits[k].kind].controls(character, kits[k])
    }

    def dressed(c: Control) -> Control:
        own = plain.get(c.key, c).outline
        return shaped(character, c.model_copy(update={"outline": own}), p.shape, p.grow)

    return character.with_(controls=tuple(dressed(c) if c.name in chosen else c for c in character.controls))


class Level(_Some):
    level: str = Field(
        min_length=1, max_length=30, pattern=r"^[\w ]+$", description="body, fine, face or a set of one's own"
    )


@step("controls.set", Level, lambda c, p: f"Put {_few(p)} into the set {p.level}")
def level(character: Character, p: Level) -> Character:
    """Put controls into a set, with which they are shown and hidden."""
    chosen = _chosen(character, p)
    return character.with_(
        controls=tuple(c.model_copy(update={"level": p.level}) if c.name in chosen else c for c in character.controls)
    )


class Limit(_Some):
    channel: str
    low: Number | None = None
    high: Number | None = None
    locked: bool = False


@step("controls.limit", Limit, lambda c, p: f"{'Locked' if p.locked else 'Limited'} {p.channel} of {_few(p)}")
def limit(character: Character, p: Limit) -> Character:
    """Limit a channel in the control's parent space, or lock and hide it; the other side is limited as its mirror image."""
    _chosen(character, p)
    if p.low is not None and p.high is not None and p.low > p.high:
        raise BadParameters("The low limit is above the high one.", p.channel, "Exchange them.")
    changes: dict[str, Channel] = {}
    for n in p.controls:
        control = character.control_named[n]
        own = next((k for k in control.channels if k.name == p.channel), None)
        if own is None:
            raise NotFound(f"{n} has no channel “{p.channel}”.", character.name, "Reload the page.")
        if (p.low is not None and own.rest < p.low) or (p.high is not None and own.rest > p.high):
            raise BadParameters(f"At rest {p.channel} is {own.rest:g}: that must stay allowed.", n, "Widen the limits.")
        changes[n] = own.model_copy(update={"low": p.low, "high": p.high, "locked": p.locked, "limited": True})
        other = opposite_control(character, n)
        if p.both_sides and other != n:
            flip = _flips(control, character.control_named[other], p.channel)
            low, high = (p.low, p.high) if not flip else (_negative(p.high), _negative(p.low))
            changes[other] = own.model_copy(update={"low": low, "high": high, "locked": p.locked, "limited": True})
    return character.with_(
        controls=tuple(
            c.model_copy(update={"channels": tuple(changes[c.name] if k.name == p.channel else k for k in c.channels)})
            if c.name in changes
            else c
            for c in character.controls
        )
    )


def _negative(v: float | None) -> float | None:
    return None if v is None else -v


def _flips(own: Control, other: Control, channel: str) -> bool:
    """Whether the mirrored value of a channel has the other sign."""
    return mirrored_values(own, other, {channel: 0.1}).get(channel, 0.1) < 0


class AddChannel(Params):
    control: str
    name: str = Field(min_length=1, max_length=40, pattern=r"^[\w \-]+$")
    low: Number = -1.0
    high: Number = 1.0
    both_sides: bool = True


@step("controls.add_channel", AddChannel, lambda c, p: f"Added the channel {p.name} to {p.control}")
def add_channel(character: Character, p: AddChannel) -> Character:
    """Add a channel with a range to a control, for links to read; it rests at zero."""
    if not p.low <= 0.0 <= p.high or p.low == p.high:
        raise BadParameters("A channel's range holds zero, where it rests.", p.name, "Choose another range.")
    chosen = _chosen(character, _Some(controls=(p.control,), both_sides=p.both_sides))
    for n in chosen:
        if any(k.name == p.name for k in character.control_named[n].channels):
            raise StepRefused(f"{n} has a channel “{p.name}” already.", character.name, "Choose another name.")
    new = Channel(name=p.name, low=p.low, high=p.high, added=True)
    return character.with_(
        controls=tuple(
            c.model_copy(update={"channels": (*c.channels, new)}) if c.name in chosen else c for c in character.controls
        )
    )


class DropChannel(Params):
    control: str
    name: str
    both_sides: bool = True


@step("controls.remove_channel", DropChannel, lambda c, p: f"Took the channel {p.name} off {p.control}")
def remove_channel(character: Character, p: DropChannel) -> Character:
    """Take an added channel away, with the links that it leads."""
    chosen = _chosen(character, _Some(controls=(p.control,), both_sides=p.both_sides))
    for n in chosen:
        found = next((k for k in character.control_named[n].channels if k.name == p.name), None)
        if found is None or not found.added:
            raise StepRefused(f"“{p.name}” of {n} wasn't added by hand.", character.name, "Lock and hide it instead.")
    return character.with_(
        controls=tuple(
            c.model_copy(update={"channels": tuple(k for k in c.channels if k.name != p.name)})
            if c.name in chosen
            else c
            for c in character.controls
        )
    )


class Rename(Params):
    control: str
    name: Annotated[Name, Field(max_length=60)]


@step("controls.rename", Rename, lambda c, p: f"Called the control {p.control} {p.name}", renames=True)
def rename(character: Character, p: Rename) -> Character:
    """Give a control another name, everywhere it is spoken of."""
    named = character.control_named
    if p.control not in named:
        raise NotFound(f"There is no control called “{p.control}”.", character.name, "Reload the page.")
    if p.name in named:
        raise StepRefused(f"There is a control called “{p.name}” already.", character.name, "Choose another name.")
    if p.control == "whole":
        raise StepRefused("The control of the whole figure keeps its name.", character.name)
    return renamed(character, {Ref.control(p.control): Ref.control(p.name)})
