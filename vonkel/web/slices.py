"""What the pages are told of a character, in slices: each known by the hash of what it says.

A page names the slices that it has; of the others it is sent what changed, and of lists of named things the changed rows
alone.  What is worked out for a state is worked out once, for all pages that look at it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from ..core.character import Character, opposite_name
from ..core.derived import derived
from ..core.motion.clips import length_of
from ..core.poses import pose_set
from ..core.recent import Recent
from ..core.shapes.moves import farthest, led_shapes
from ..core.skin.between import handed_fresh
from ..readings import findings, station_states
from ..readings.boards import picture_seal
from ..readings.face import told_face
from ..readings.findings import Finding
from ..readings.report import counts
from ..store import LedgerRow, Position
from ..workshop import Workshop
from ..workshop.workshop import ROOT_STEP
from .payload import mesh_key

Rows = dict[str, str]  # a thing's name → the hash of its row
LARGE = 60_000  # points: looking through so many takes longer than a page should wait
DECIMALS = 6  # decimals of lines that are only drawn: micrometres


@dataclass
class Look:
    """One character as it stands, and what several slices ask of it."""

    workshop: Workshop
    number: int

    @cached_property
    def position(self) -> Position:
        return self.workshop.store.position(self.number)

    @cached_property
    def character(self) -> Character:
        return self.workshop.character(self.number, self.position.step)

    @cached_property
    def ledger(self) -> list[LedgerRow]:
        return self.workshop.store.ledger(self.number)

    @cached_property
    def found(self) -> list[Finding]:
        return findings(self.character)


def _head(look: Look) -> dict[str, Any]:
    c, position = look.character, look.position
    last = next((r for r in reversed(look.ledger) if not r.undone), None)
    return {
        "number": look.number,
        "position": {"step": position.step, "pose": position.pose},
        "name": c.name,
        "about": c.about,
        "plan": c.plan,
        "height": c.height,
        "rate": c.rate,
        "size": np.ptp(c.points, axis=0).tolist() if len(c.points) else [0, 0, 0],
        "low": c.points.min(0).tolist() if len(c.points) else [0, 0, 0],
        "counts": counts(c),
        "mesh": mesh_key(c),
        "groups": len(c.groups),
        "texture": c.arrays.hash_of("texture") if "texture" in c.arrays else "",
        "steps": sum(not r.undone for r in look.ledger),
        "last": {"sentence": last.sentence, "number": last.number} if last else None,
        "can_undo": bool(position.pose) or (last is not None and last.name != ROOT_STEP),
        "can_redo": look.workshop.store.can_redo(look.number),
        "store_bytes": look.workshop.store.bytes_used(),
    }


def _pose(look: Look) -> dict[str, Any]:
    values, label = look.workshop.pose(look.number)
    return {"values": values, "label": label}


def _partner(name: str, known: set[str]) -> str:
    """The same thing on the other side, or nothing."""
    other = opposite_name(name)
    return other if other != name and other in known else ""


def _joints(look: Look) -> list[dict[str, Any]]:
    known = {j.name for j in look.character.joints}
    return [j.model_dump() | {"partner": _partner(j.name, known)} for j in look.character.joints]


def _controls(look: Look) -> list[dict[str, Any]]:
    known = {c.name for c in look.character.controls}
    return [
        c.model_dump(exclude={"place", "turn", "outline"}) | {"partner": _partner(c.name, known)}
        for c in look.character.controls
    ]


def _lines(look: Look) -> list[dict[str, Any]]:
    """Where controls stand and what is drawn of them: this changes with every joint that is moved, their channels don't."""
    return [
        {
            "name": c.name,
            "place": c.place,
            "turn": c.turn,
            "outline": [[round(v, DECIMALS) for v in p] for p in c.outline],
        }
        for c in look.character.controls
    ]


def _skin(look: Look) -> dict[str, Any] | None:
    skin = look.character.skin
    if skin is None:
        return None
    return {**skin.model_dump(), "holds": _holds(look.character), "fresh": handed_fresh(look.character)}


@derived("skin", "skin/joints", "skin/weights", most=8)
def _holds(c: Character) -> dict[str, float]:
    """Joint → the share of all weight that it carries, against the largest."""
    assert c.skin
    joints, weights = c.arrays["skin/joints"].ravel(), c.arrays["skin/weights"].ravel().astype(float)
    total = np.bincount(joints, weights, len(c.skin.joints))
    most = max(float(total.max()), 1e-9)
    return {n: round(float(t / most), 4) for n, t in zip(c.skin.joints, total, strict=True)}


def _stations(look: Look) -> list[dict[str, Any]]:
    cards, fresh = look.workshop.trials(look.number)
    return station_states(look.character, look.found, bool(cards) and fresh)


def _pictures(look: Look) -> list[dict[str, Any]]:
    c = look.character
    return [q.model_dump() | {"key": c.arrays.hash_of(f"picture/{q.name}")} for q in c.pictures]


def _trial_names(look: Look) -> list[str]:
    c = look.character
    return ([p.name for p in pose_set(c)] if c.skin else []) + [s.name for s in c.shapes]


def _shapes(look: Look) -> list[dict[str, Any]]:
    """`points`: how many one moves; `far`: how far at most, metres; `led`: whether something else turns it up."""
    c = look.character
    leading = led_shapes(c)
    return [
        s.model_dump()
        | {"points": len(c.arrays[f"shape/{s.name}/points"]), "far": farthest(c, s.name), "led": s.name in leading}
        for s in c.shapes
    ]


def _regions(look: Look) -> list[dict[str, Any]]:
    c = look.character
    return [r.model_dump() | {"points": len(c.arrays[f"region/{r.name}/points"])} for r in c.regions]


def _boards(look: Look) -> list[dict[str, Any]]:
    """Each picture with the seal under which its file may be kept."""
    c, out = look.character, []
    for b in c.boards:
        said = b.model_dump()
        for told, q in zip(said["pictures"], b.pictures, strict=True):
            told["seal"] = picture_seal(c, b, q)
        out.append(said)
    return out


def _clips(look: Look) -> list[dict[str, Any]]:
    c = look.character
    return [k.model_dump() | {"frames": length_of(c, k)} for k in c.clips]


def _keys(look: Look) -> list[dict[str, Any]]:
    """The keys of each track of a keyed motion, by themselves, so that only tracks that changed are told again: frame, value, manner,
    slopes in and out."""
    c, out = look.character, []
    for k in c.clips:
        if k.keyed:
            rows = c.arrays[k.array].astype(float).round(6)
            parts = np.split(rows[:, 1:], np.searchsorted(rows[:, 0], np.arange(1, len(k.tracks))))
            out += [
                {"name": f"{k.name}|{t.thing}|{t.channel}", "clip": k.name, "keys": own.tolist()}
                for t, own in zip(k.tracks, parts, strict=True)
            ]
    return out


def with_keys_of(clips: list[dict[str, Any]], keys: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Motions with the keys of those that have such as rows: track, frame, value, manner, slopes in and out."""
    out = []
    for clip in clips:
        own = [k["keys"] for k in keys if k["clip"] == clip["name"]]
        out.append(
            clip | ({"keys": [[i, *row] for i, rows in enumerate(own) for row in rows]} if clip["keyed"] else {})
        )
    return out


def _named(field: str) -> Callable[[Look], list[dict[str, Any]]]:
    return lambda look: [row.model_dump() for row in getattr(look.character, field)]


SLICES: dict[str, Callable[[Look], Any]] = {
    "head": _head,
    "pose": _pose,
    "parts": _named("parts"),
    "joints": _joints,
    "kits": _named("kits"),
    "controls": _controls,
    "lines": _lines,
    "rules": _named("rules"),
    "shapes": _shapes,
    "regions": _regions,
    "boards": _boards,
    "face": lambda look: told_face(look.character),
    "clips": _clips,
    "keys": _keys,
    "poses": lambda look: [p.name for p in look.character.poses],
    "pictures": _pictures,
    "skin": _skin,
    "findings": lambda look: [f.model_dump() for f in look.found],
    "stations": _stations,
    "trial_names": _trial_names,
}
"""Slice → what it says.  In the whole state `head` is spread out, `lines` are joined to their controls and `keys` to their motions;
the others stand in it under their own names."""
SLOW = ("findings", "stations")
"""Slices that look through the whole mesh: a page that opens shows the mesh before it asks for them."""

MOVES = ("head", "pose", "stations")
"""Slices that change without a step; the others say the same of a step for ever, and are made once for all pages."""

_rows: Recent[str, Rows] = Recent(256)
_made: WeakKeyDictionary[Workshop, Recent[tuple[int, str], tuple[Any, str]]] = WeakKeyDictionary()


def _hash(value: Any) -> str:
    return hashlib.blake2b(json.dumps(value).encode(), digest_size=8).hexdigest()


def _slice(look: Look, name: str) -> tuple[Any, str]:
    """What a slice says, and its hash."""

    def made() -> tuple[Any, str]:
        value = SLICES[name](look)
        return value, _hash(value)

    if name in MOVES:
        return made()
    kept = _made.setdefault(look.workshop, Recent(128))
    return kept.get((look.position.step, name), made)


def state(workshop: Workshop, number: int) -> dict[str, Any]:
    """All of a character but its mesh, in one."""
    look = Look(workshop, number)
    said = {name: _slice(look, name)[0] for name in SLICES}
    lines = said.pop("lines")
    said["controls"] = [a | b for a, b in zip(said["controls"], lines, strict=True)]
    said["clips"] = with_keys_of(said["clips"], said.pop("keys"))
    return {**said.pop("head"), **said}


def changes(workshop: Workshop, number: int, have: dict[str, str], later: bool = False) -> dict[str, Any]:
    """What a page that has these slices (name → hash) doesn't know: slice → its hash, and its value, or `rows` by name and
    the `order` of their names where that changed.  later: of a large mesh the slow ones are left for another time.
    """
    look = Look(workshop, number)
    later = later and len(look.character.points) > LARGE
    out: dict[str, Any] = {}
    for name in SLICES:
        if later and name in SLOW:
            continue
        value, tag = _slice(look, name)
        if tag != have.get(name):
            out[name] = _told(value, tag, have.get(name, ""))
    return out


def _told(value: Any, tag: str, known: str) -> dict[str, Any]:
    if not (isinstance(value, list) and value and isinstance(value[0], dict) and "name" in value[0]):
        return {"tag": tag, "value": value}
    rows = {r["name"]: _hash(r) for r in value}
    _rows.get(tag, lambda: rows)
    before = _rows.peek(known)
    if before is None or len(rows) < len(value):
        return {"tag": tag, "value": value}
    told: dict[str, Any] = {
        "tag": tag,
        "rows": {r["name"]: r for r in value if before.get(r["name"]) != rows[r["name"]]},
    }
    if list(before) != list(rows):
        told["order"] = list(rows)
    return told
