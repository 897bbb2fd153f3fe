"""What makes a character whole.  One list: for every file that is read, every state that is loaded whole, every step."""

from __future__ import annotations

import logging
from collections import Counter
from collections.abc import Iterator
from typing import Annotated, Any

import numpy as np
from pydantic import TypeAdapter, ValidationError
from pydantic_core import PydanticSerializationError

from .character import Character
from .character.layout import misfit, runs_fault
from .character.references import things_of
from .errors import VonkelError, first_fault
from .motion.keys import keys_fault
from .rig import compile_rig
from .rig.blends import by_need, comes_from
from .rig.kits import KINDS
from .tolerances import (
    FARTHEST,
    MAX_CLIP_VALUES,
    MAX_CORNERS,
    MAX_FACES,
    MAX_JOINTS,
    MAX_PARTS,
    MAX_POINTS,
    UNIT_QUATERNION,
    WEIGHT_SUM,
)

log = logging.getLogger("vonkel.soundness")
FIELDS: dict[str, TypeAdapter[Any]] = {
    n: TypeAdapter(Annotated[f.annotation, f])  # type: ignore[arg-type]  # annotations known at run time only
    for n, f in Character.model_fields.items()
    if n != "arrays"
}


def unsound(c: Character, before: Character | None = None) -> str:
    """What keeps a character from being one, as a phrase; nothing when it is sound.

    Its structure is valid; names are unique; parents exist and stand before their children; every array has its declared
    type and shape and finite numbers; faces, lines, parts, weights and shapes fit the points; weights are not negative and
    sum to one; its rig compiles.  `before`: a sound character that this one was made from; arrays that are still the very
    same ones, on the same structure, aren't looked through again.
    """
    for fault in _faults(c, before):
        return fault
    return ""


def _faults(c: Character, before: Character | None) -> Iterator[str]:
    for field in FIELDS:
        fault = _invalid(field, getattr(c, field), getattr(before, field) if before is not None else None)
        if fault:
            yield fault
            return
    yield from _names(c)
    yield from _hierarchy(c)
    yield from _arrays(c, before)
    yield from _mesh(c, before)
    yield from _skin(c, before)
    yield from _shapes(c, before)
    yield from _regions(c, before)
    yield from _boards(c)
    yield from _clips(c)
    yield from _rig(c)


def _invalid(field: str, value: Any, before: Any) -> str:
    """What of one field isn't as its model says; what stood in it before already isn't looked at again."""
    if value is before:
        return ""
    if isinstance(value, tuple) and isinstance(before, tuple):
        known = {id(v) for v in before}
        value = tuple(v for v in value if id(v) not in known)
    try:
        FIELDS[field].validate_json(FIELDS[field].dump_json(value))  # as it is stored
    except ValidationError as error:
        where, why = first_fault(error)
        return f"“{field}{'.' if where else ''}{where}”: {why}"
    except PydanticSerializationError:
        return f"“{field}”: a name or a word in it isn't whole text"
    return ""


def _names(c: Character) -> Iterator[str]:
    for what, things in (
        ("parts", c.parts), ("joints", c.joints), ("kits", c.kits), ("controls", c.controls), ("rules", c.rules),
        ("shapes", c.shapes), ("regions", c.regions), ("boards", c.boards), ("poses", c.poses), ("clips", c.clips), ("pictures", c.pictures),
    ):  # fmt: skip
        twice = [n for n, k in Counter(t.name for t in things).items() if k > 1]
        if twice:
            yield f"two {what} are called “{twice[0]}”"
    for control in c.controls:
        twice = [n for n, k in Counter(ch.name for ch in control.channels).items() if k > 1]
        if twice:
            yield f"two channels of “{control.name}” are called “{twice[0]}”"


def _hierarchy(c: Character) -> Iterator[str]:
    if len(c.joints) > MAX_JOINTS:
        yield f"it has more than {MAX_JOINTS:,} joints"
    known = set(c.joint_index)
    seen: set[str] = set()
    for j in c.joints:
        if j.parent is not None and j.parent not in known:
            yield f"the joint “{j.name}” hangs from “{j.parent}”, which isn't there"
        if j.parent is not None and j.parent not in seen:
            yield f"the joint “{j.name}” stands before “{j.parent}”, from which it hangs, or below itself"
        seen.add(j.name)
        if abs(sum(v * v for v in j.turn) - 1.0) > 1e3 * UNIT_QUATERNION:
            yield f"the turn of the joint “{j.name}” is no rotation"
        if max(map(abs, j.place)) > 10 * FARTHEST:
            yield f"the joint “{j.name}” lies too far off"


def _same(c: Character, before: Character | None, *names: str) -> bool:
    """Whether these arrays are the very ones that a sound character had."""
    return before is not None and all(c.arrays.get(n) is before.arrays.get(n) for n in names)


BASES = ("points", "face_starts", "face_corners")


def _arrays(c: Character, before: Character | None) -> Iterator[str]:
    missing = [n for n in BASES if n not in c.arrays]
    if missing:
        yield f"“{missing[0]}” is missing"
        return
    base = _same(c, before, *BASES)
    for name in c.arrays:
        if not (base and _same(c, before, name)):
            fault = misfit(c.arrays, name)
            if fault:
                yield fault
    wanted = {f"picture/{q.name}" for q in c.pictures}
    wanted |= {f"shape/{s.name}/{k}" for s in c.shapes for k in ("points", "moves")}
    wanted |= {f"region/{r.name}/{k}" for r in c.regions for k in ("points", "amounts")}
    wanted |= {f"board/{b.name}/{q.key}" for b in c.boards for q in b.pictures if q.own}
    wanted |= {k.array for k in c.clips}
    there = {n for n in c.arrays if n.startswith(("picture/", "shape/", "region/", "board/", "clip/"))}
    if wanted != there:
        yield f"“{min(wanted ^ there)}” is {'missing' if min(wanted ^ there) in wanted else 'of nothing that is there'}"
    for a, b in (("skin/joints", "skin/weights"), ("line_starts", "line_points")):
        if (a in c.arrays) != (b in c.arrays):
            yield f"“{a}” and “{b}” belong together"


def _mesh(c: Character, before: Character | None) -> Iterator[str]:
    a = c.arrays
    n, faces = len(a["points"]), len(a["face_starts"]) - 1
    if n > MAX_POINTS or faces > MAX_FACES or len(a["face_corners"]) > MAX_CORNERS or len(c.parts) > MAX_PARTS:
        yield "it is too large"
    if not _same(c, before, *BASES):
        fault = runs_fault(a["face_starts"], a["face_corners"], n, 3, "face")
        if fault:
            yield fault
            return
        if n and np.abs(a["points"]).max() > 10 * FARTHEST:
            yield "its points lie too far off"
    lines = 0
    if "line_starts" in a:
        lines = len(a["line_starts"]) - 1
        fault = runs_fault(a["line_starts"], a["line_points"], n, 2, "line")
        if fault:
            yield fault
            return
    if "face_groups" in a and faces and a["face_groups"].max() >= len(c.groups):
        yield "a face is of a group that isn't there"
    at = [0, 0, 0]
    for p in c.parts:
        for k, (low, high) in enumerate((p.points, p.faces, p.lines)):
            if low == high and k == 2:
                continue
            if low != at[k] or high < low:
                yield f"the part “{p.name}” doesn't follow the one before"
            at[k] = high
    if at != [n, faces, lines]:
        yield "parts don't cover the mesh"
        return
    if not (_same(c, before, *BASES, "line_starts", "line_points") and before is not None and c.parts == before.parts):
        yield from _stays_in_its_part(c)


def _stays_in_its_part(c: Character) -> Iterator[str]:
    a, owner = c.arrays, c.part_numbers("points")
    for starts, flat, what, runs in (
        ("face_starts", "face_corners", "face", "faces"), ("line_starts", "line_points", "line", "lines"),
    ):  # fmt: skip
        if starts in a and len(a[flat]):
            part = np.repeat(c.part_numbers(runs), np.diff(a[starts]))  # type: ignore[arg-type]
            if (owner[a[flat]] != part).any():
                yield f"a {what} uses points of another part"


def _skin(c: Character, before: Character | None) -> Iterator[str]:
    if c.skin is None:
        if "skin/joints" in c.arrays:
            yield "it has skin weights, but no skin"
        return
    if "skin/joints" not in c.arrays:
        yield "its skin has no weights"
        return
    gone = [n for n in c.skin.joints if n not in c.joint_index]
    if gone:
        yield f"its skin follows the joint “{gone[0]}”, which isn't there"
    if not c.skin.joints or len(set(c.skin.joints)) != len(c.skin.joints):
        yield "its skin follows a joint twice, or none"
    names = ("points", "skin/joints", "skin/weights", "handed/joints", "handed/weights")
    if _same(c, before, *names) and before is not None and c.skin == before.skin:
        return
    yield from _weights(c, "skin", len(c.skin.joints))
    if (c.skin.handed is None) != ("handed/joints" not in c.arrays) or ("handed/joints" in c.arrays) != (
        "handed/weights" in c.arrays
    ):
        yield "the skin that goes out isn't whole"
    elif c.skin.handed is not None:
        lost = [n for h in c.skin.handed.between for n in (h.a, h.b) if n not in c.joint_index]
        if lost:
            yield f"the skin that goes out follows the joint “{lost[0]}”, which isn't there"
        called = [h.name for h in c.skin.handed.between]
        if len({*called, *c.joint_index}) < len(called) + len(c.joint_index):
            yield "two joints that go out have one name"
        for t in c.skin.handed.correctives:
            index, moves = (c.arrays.get(f"handed/target/{t.name}/{k}") for k in ("points", "moves"))
            if t.joint not in c.joint_index or index is None or moves is None or len(index) != len(moves):
                yield f"the target “{t.name}” that goes out isn't whole"
            elif len(index) and index.max() >= len(c.points):
                yield f"the target “{t.name}” moves a point that isn't there"
        yield from _weights(c, "handed", len(c.skin.joints) + len(called))


def _weights(c: Character, which: str, count: int) -> Iterator[str]:
    """What is wrong with the weights of `count` holders: the live skin's, or those that go out."""
    joints, weights = c.arrays[f"{which}/joints"], c.arrays[f"{which}/weights"]
    if joints.shape != weights.shape or not joints.shape[1]:
        yield "skin weights don't fit their joints"
    elif len(joints) and joints.max() >= count:
        yield "a skin weight is of a joint that isn't there"
    elif (weights < 0).any():
        yield "a skin weight is negative"
    else:
        sums = weights.sum(1, dtype=np.float64)
        off = np.flatnonzero(np.abs(sums - 1.0) > WEIGHT_SUM)
        if len(off):
            yield f"the skin weights of point {off[0]} sum to {sums[off[0]]:.4g}, not to one"


def _of_points(c: Character, index: np.ndarray, rows: np.ndarray) -> bool:
    """Whether there is a row for each of some points, and the points are there."""
    return len(index) == len(rows) and not (len(index) and index.max() >= len(c.points))


def _shapes(c: Character, before: Character | None) -> Iterator[str]:
    for s in c.shapes:
        names = f"shape/{s.name}/points", f"shape/{s.name}/moves"
        if _same(c, before, "points", *names):
            continue
        index, moves = (c.arrays[n] for n in names)
        if not _of_points(c, index, moves):
            yield f"the shape “{s.name}” doesn't fit the points"
        elif len(moves) and np.abs(moves).max() > 10 * FARTHEST:
            yield f"the shape “{s.name}” moves points too far"
        elif len(np.unique(index)) != len(index):
            yield f"the shape “{s.name}” moves a point twice"


def _regions(c: Character, before: Character | None) -> Iterator[str]:
    for r in c.regions:
        names = f"region/{r.name}/points", f"region/{r.name}/amounts"
        if _same(c, before, "points", *names):
            continue
        index, amounts = (c.arrays[n] for n in names)
        if not _of_points(c, index, amounts):
            yield f"the region “{r.name}” doesn't fit the points"
        elif len(np.unique(index)) != len(index):
            yield f"the region “{r.name}” holds a point twice"
        elif len(amounts) and not (amounts.min() >= 0 and amounts.max() <= 1):
            yield f"the region “{r.name}” holds a point by less than nothing, or more than all of it"


def _boards(c: Character) -> Iterator[str]:
    regions, shapes = {r.name for r in c.regions}, {s.name: s for s in c.shapes}
    for s in c.shapes:
        lost = [n for n in comes_from(s) if n not in shapes]
        if lost or (s.region and s.region not in regions):
            yield f"the shape “{s.name}” speaks of “{lost[0] if lost else s.region}”, which isn't there"
    circle = by_need(c.shapes)[1]
    if circle:
        yield f"the strength of the shape “{circle}” depends on itself"
    for b in c.boards:
        lost = [n for q in b.pictures for n in q.shapes if n not in shapes]
        if lost or (b.region and b.region not in regions):
            yield f"the board “{b.name}” speaks of “{lost[0] if lost else b.region}”, which isn't there"
        if len({q.key for q in b.pictures}) != len(b.pictures):
            yield f"two pictures of the board “{b.name}” have one key"
        if any(low > 0.0 or high < 0.0 for low, high in zip(b.low, b.high, strict=True)):
            yield f"the bead of the board “{b.name}” can't rest in its middle"


def _clips(c: Character) -> Iterator[str]:
    for k in c.clips:
        values = c.arrays[k.array]
        if k.keyed:
            if keys_fault(values, len(k.tracks)) or (k.end + 1) * len(k.tracks) > MAX_CLIP_VALUES:
                yield f"the keys of the clip “{k.name}” don't fit its tracks"
        elif not len(values) or values.shape[1] != len(k.tracks) or values.size > MAX_CLIP_VALUES:
            yield f"the clip “{k.name}” doesn't fit its tracks"


def _rig(c: Character) -> Iterator[str]:
    """Whatever is said of kits, controls and rules, a rig comes of it, or it is refused."""
    try:
        strange = [k.kind for k in c.kits if k.kind not in KINDS]
        if strange:
            yield f"there is no kit of the kind “{strange[0]}”"
            return
        known = things_of(c)
        for rule in c.rules:
            rule.check(known)
        if not compile_rig(c).rests:
            yield "its rig gives what is not a number"
    except VonkelError as error:
        yield f"its rig can't be solved: {error.what}"
    except Exception:  # a file may say anything of a kit
        log.info("a rig can't be compiled", exc_info=True)
        yield "its rig can't be solved"
