"""Kits and rules made again on the other side, with everything in them."""

from __future__ import annotations

import numpy as np

from ..character import (
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
    Swing,
    opposite,
    opposite_name,
)
from ..character.references import renamed_rule, things_of
from ..errors import StepRefused
from ..geometry.rotations import matrix_from_quaternion
from .curves import curve_function
from .kits import add_kit, driven_joints, remove_kit, with_rules
from .mirror import mirrored_values, opposite_control
from .outlines import shaped
from .rules.links import OWN

MOST_KEYS = 60  # a curve takes 64


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
    from .kits import KINDS

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


def other_things(character: Character, things: set[str]) -> dict[str, str]:
    """Each thing and the one that stands for it on the other side; what has none stays."""
    out = {}
    for thing in things:
        kind, _, name = thing.partition(":")
        if kind == "joint":
            out[thing] = f"joint:{_partner(character, name)}"
        elif kind == "control":
            out[thing] = f"control:{opposite_control(character, name)}"
        elif kind == "shape":
            other = opposite_name(name)
            out[thing] = f"shape:{other}" if any(s.name == other for s in character.shapes) else thing
    return out


def mirrored_rule(character: Character, rule: Rule) -> Rule:
    """The rule on the other side: its things exchanged for their partners, what it sets mirrored."""
    names = other_things(character, things_of(rule))
    image = renamed_rule(rule, names)
    words = [opposite_name(w) for w in rule.name.split(" ")]
    update: dict[str, object] = {"name": " ".join(words)}
    named = character.control_named
    if isinstance(rule, Link):
        followers = _mirrored_followers(character, rule, names)
        backwards = _lead_turns_over(character, rule.lead, names)
        update["followers"] = tuple(_read_backwards(f) if backwards else f for f in followers)
    if isinstance(rule, Swing):
        swingers = []
        for s in rule.swingers:
            other = named[names[f"control:{s.control}"][8:]]
            for channel, angle in mirrored_values(named[s.control], other, {s.channel: s.angle}).items():
                if abs(angle) > 1e-9:
                    swingers.append(s.model_copy(update={"control": other.name, "channel": channel, "angle": angle}))
        update["swingers"] = tuple(swingers)
    return image.model_copy(update=update)


def _lead_turns_over(character: Character, lead: Lead, names: dict[str, str]) -> bool:
    """Whether the partner's lead reads the mirrored pose with the other sign."""
    own, other = (_movable(character, t) for t in (lead.thing, names.get(lead.thing, lead.thing)))
    if own is None or other is None or lead.kind in ("distance", "swing"):
        return False
    if lead.kind == "channel":
        return mirrored_values(own, other, {lead.channel: 1.0}).get(lead.channel, 1.0) < 0
    axes = [OWN[j.hinge if lead.kind == "bend" else j.aim] for j in (_joint(character, own), _joint(character, other))]
    small = 0.01  # an angle so small that turns about the three axes are its parts along them
    turned = mirrored_values(own, other, {f"turn {k}": small * v for k, v in zip("xyz", axes[0], strict=True)})
    return sum(turned.get(f"turn {k}", 0.0) * v for k, v in zip("xyz", axes[1], strict=True)) < 0


def _joint(character: Character, stand_in: Control) -> Joint:
    return character.joint(stand_in.name)


def _movable(character: Character, thing: str) -> Control | None:
    """A control, or what a joint would be as one: its frame at rest, with every channel a follower may have."""
    kind, _, name = thing.partition(":")
    if kind == "control":
        return character.control_named[name]
    if kind != "joint":
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


def _between(spots: list[float], manner: str) -> list[float]:
    """The spots with others between them, as many as a curve may have."""
    pieces = min(8, MOST_KEYS // max(len(spots) - 1, 1)) if manner != "stepped" else 1
    if pieces < 2:
        return spots
    return [a + (b - a) * k / pieces for a, b in zip(spots, spots[1:], strict=False) for k in range(pieces)] + spots[
        -1:
    ]


def _needed(spots: list[float], values: list[float], thinned: bool) -> list[tuple[float, float]]:
    """The keys (at, value); thinned: without those that lie on the straight line between their neighbours."""
    kept = list(zip(spots, values, strict=True))
    k = 1
    while thinned and k < len(kept) - 1:
        (a, va), (b, vb), (c, vc) = kept[k - 1 : k + 2]
        if abs(va + (vc - va) * (b - a) / (c - a) - vb) < 1e-9:
            del kept[k]
        else:
            k += 1
    return kept


def _read_backwards(f: Follower) -> Follower:
    keys = tuple(CurveKey(at=-k.at, value=k.value) for k in reversed(f.curve.keys))
    return f.model_copy(update={"curve": f.curve.model_copy(update={"keys": keys})})


def _mirrored_followers(character: Character, rule: Link, names: dict[str, str]) -> tuple[Follower, ...]:
    """Everything that is led, on the other side: at every key the pose that its channels take together is mirrored.

    Which channels turn their sign is read from both rest frames, so it holds for partners turned in counter-motion, with
    parallel axes, or in no such manner.  Where axes don't simply turn their signs, a turn about one is a turn about
    several that doesn't grow evenly: there keys are set in between as well.
    """
    together: dict[str, dict[str, Curve]] = {}
    out = []
    for f in rule.followers:
        if f.thing.startswith("shape:"):
            out.append(f.model_copy(update={"thing": names.get(f.thing, f.thing)}))
        else:
            together.setdefault(f.thing, {})[f.channel] = f.curve
    for thing, curves in together.items():
        own, other = (_movable(character, t) for t in (thing, names[thing]))
        assert own is not None and other is not None
        spots = sorted({k.at for c in curves.values() for k in c.keys})
        functions = {channel: curve_function(c) for channel, c in curves.items()}
        first = next(iter(curves.values()))
        finer = any(ch.startswith("turn ") for ch in curves) and not _signs_alone(own, other)
        if finer:
            spots = _between(spots, first.manner)
        rows = [mirrored_values(own, other, {ch: f(at) for ch, f in functions.items()}) for at in spots]
        for channel in sorted({ch for row in rows for ch in row}):
            values = [row.get(channel, 0.0) for row in rows]
            if any(abs(v) > 1e-9 for v in values):
                keys = tuple(
                    CurveKey(at=a, value=v) for a, v in _needed(spots, values, finer and first.manner == "linear")
                )
                curve = curves.get(channel, first).model_copy(update={"keys": keys})
                out.append(Follower(thing=names[thing], channel=channel, curve=curve))
    return tuple(out)
