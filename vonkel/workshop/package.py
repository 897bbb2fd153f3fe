"""A whole character as one open file: a ZIP of one JSON and .npy arrays (docs/character-file.md)."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..core.character import Character, content_hash
from ..core.character.references import checked
from ..core.errors import BadFile, TooLarge, VonkelError, first_fault
from ..core.rig import compile_rig
from ..core.tolerances import MAX_CORNERS, MAX_FACES, MAX_POINTS
from ..steps.registry import parsed
from ..store import Kept, Store
from ..store.store import array_names

ENDING = ".vonkel"
MAX_UNPACKED = 2 * 1024**3
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]


# What reading an archive whose bytes were damaged may raise; ValueError has the wrongly spelt names among it.
DAMAGED = (
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
    KeyError,
    ValueError,
    NotImplementedError,
    RuntimeError,
    EOFError,
    OSError,
)


class _Base(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class FileSnapshot(_Base):
    document: dict[str, Any]
    arrays: dict[str, Digest]


class FileStep(_Base):
    name: str = Field(max_length=80)
    params: dict[str, Any]
    sentence: str = Field(max_length=2000)
    made: float
    seconds: float
    snapshot: FileSnapshot | None


class FileMilestone(_Base):
    number: int = Field(ge=1)
    name: str = Field(max_length=80)
    made: float


class CharacterFile(_Base):
    """What `character.json` holds."""

    vonkel_character: Literal[1] = 1
    name: str = Field(min_length=1, max_length=80)
    steps: list[FileStep] = Field(min_length=1, max_length=100_000)
    milestones: list[FileMilestone] = []
    pose: dict[str, dict[str, float]] = {}
    pose_label: str = Field("", max_length=120)


def pack(store: Store, character: int) -> bytes:
    """The character with its ledger up to where one stands, its milestones and its pose."""
    rows = [r for r in store.ledger(character) if not r.undone]
    wanted: dict[str, None] = {}
    steps = []
    for r in rows:
        snapshot = None
        digest = store.snapshot_hash(r.id)
        if digest:
            document, arrays = store.snapshot(digest)
            snapshot = FileSnapshot(document=json.loads(document), arrays=arrays)
            wanted |= dict.fromkeys(arrays.values())
        wanted |= dict.fromkeys(array_names(r.params))
        steps.append(
            FileStep(
                name=r.name, params=r.params, sentence=r.sentence, made=r.made, seconds=r.seconds, snapshot=snapshot
            )
        )
    numbers = {r.id: r.number for r in rows}
    marks = [
        FileMilestone(number=numbers[m.step], name=m.name, made=m.made)
        for m in store.milestones(character) if m.step in numbers
    ]  # fmt: skip
    values, label = store.pose(character)
    name = next(s.name for s in store.characters() if s.id == character)
    listed = CharacterFile(name=name, steps=steps, milestones=marks, pose=values, pose_label=label)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("character.json", listed.model_dump_json(indent=1))
        for digest in wanted:
            body = io.BytesIO()
            np.save(body, store.array(digest), allow_pickle=False)
            z.writestr(f"arrays/{digest}.npy", body.getvalue())
    return out.getvalue()


def unpack(store: Store, data: bytes, where: str) -> int:
    """A character from its file; all of it or nothing.  Raises BadFile saying what is wrong.  Returns its number."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as z:
            if sum(i.file_size for i in z.infolist()) > MAX_UNPACKED:
                raise TooLarge("The character unpacks to more than 2 GB.", where, "Compact its store and export again.")
            listed = CharacterFile.model_validate_json(z.read("character.json"))
            arrays = {}
            for digest in dict.fromkeys(d for s in listed.steps for d in _names(s)):
                arrays[digest] = _array(z, digest, where)
    except ValidationError as error:
        field, why = first_fault(error, "file")
        raise BadFile(f"“{field}” in it is out of order: {why}.", where, "Export it again.") from None
    except DAMAGED as error:
        raise BadFile("This is no whole character file.", f"{where}: {error}", "Export the character again.") from None
    kept = [_checked(s, arrays, i, where) for i, s in enumerate(listed.steps)]
    if kept[0].document is None or kept[-1].document is None:
        raise BadFile("It lacks the first or the last state.", where, "Export the character again.")
    if any(m.number > len(kept) for m in listed.milestones):
        raise BadFile("A milestone stands on a step that isn't there.", where, "Export the character again.")
    marks = [(m.number, m.name, m.made) for m in listed.milestones]
    return store.adopt(listed.name, kept, arrays, marks, (listed.pose, listed.pose_label))


def _names(step: FileStep) -> list[str]:
    return [*(step.snapshot.arrays.values() if step.snapshot else ()), *array_names(step.params)]


def _array(z: zipfile.ZipFile, digest: str, where: str) -> np.ndarray:
    try:
        array = np.load(io.BytesIO(z.read(f"arrays/{digest}.npy")), allow_pickle=False)
    except ValueError:
        raise BadFile("An array in it can't be read.", f"{where}, {digest}", "Export the character again.") from None
    if content_hash(array) != digest:
        raise BadFile("An array in it was changed.", f"{where}, {digest}", "Export the character again.")
    return array


def _checked(step: FileStep, arrays: dict[str, np.ndarray], i: int, where: str) -> Kept:
    """One step of the file, its parameters known and its state sound."""
    place = f"{where}, step {i + 1}"
    if i:
        try:
            parsed(step.name, _filled(step.params, arrays))
        except VonkelError as error:
            raise BadFile(f"Step {i + 1} can't be used: {error.what}", place, error.todo) from None
    if step.snapshot is None:
        return Kept(step.name, step.params, step.sentence, step.made, step.seconds, None, {})
    try:
        made = Character.model_validate(step.snapshot.document)
    except ValidationError as error:
        why = first_fault(error)[1]
        raise BadFile(f"A state in it is out of order: {why}.", place, "Export the character again.") from None
    problem = unsound(made, {n: arrays[d] for n, d in step.snapshot.arrays.items()})
    if problem:
        raise BadFile(f"A state in it doesn't fit together: {problem}.", place, "Export the character again.")
    return Kept(
        step.name, step.params, step.sentence, step.made, step.seconds, made.model_dump_json(), step.snapshot.arrays
    )


def _filled(value: Any, arrays: dict[str, np.ndarray]) -> Any:
    if isinstance(value, dict):
        if set(value) == {"array"}:
            return arrays.get(str(value["array"]))
        return {k: _filled(v, arrays) for k, v in value.items()}
    return [_filled(v, arrays) for v in value] if isinstance(value, list) else value


def unsound(c: Character, arrays: dict[str, np.ndarray]) -> str:
    """What keeps a structure and its arrays from being one character; nothing when they are."""
    points, starts, corners = (arrays.get(k) for k in ("points", "face_starts", "face_corners"))
    if points is None or starts is None or corners is None:
        return "points or faces are missing"
    n = len(points)
    if points.shape != (n, 3) or points.dtype != np.float64 or not np.isfinite(points).all() or n > MAX_POINTS:
        return "points are not places"
    runs = (
        starts.ndim == 1
        and len(starts)
        and starts[0] == 0
        and starts[-1] == len(corners)
        and (np.diff(starts) > 2).all()
    )
    if not runs or corners.ndim != 1 or len(starts) > MAX_FACES or len(corners) > MAX_CORNERS:
        return "faces are out of order"
    if len(corners) and (corners.min() < 0 or corners.max() >= n):
        return "a face names a point that isn't there"
    at = faces = 0
    for p in c.parts:
        if p.points[0] != at or p.points[1] < at or p.faces[0] != faces or p.faces[1] < faces:
            return "parts don't follow each other"
        at, faces = p.points[1], p.faces[1]
    if at != n or faces != len(starts) - 1:
        return "parts don't cover the mesh"
    names = {j.name for j in c.joints}
    if len(names) != len(c.joints) or any(j.parent is not None and j.parent not in names for j in c.joints):
        return "the hierarchy of joints is broken"
    if c.skin is not None:
        j, w = arrays.get("skin/joints"), arrays.get("skin/weights")
        if j is None or w is None or j.shape != w.shape or len(j) != n or (j.size and j.max() >= len(c.skin.joints)):
            return "skin weights don't fit the points"
    for s in c.shapes:
        index, moves = arrays.get(f"shape/{s.name}/points"), arrays.get(f"shape/{s.name}/moves")
        if index is None or moves is None or moves.shape != (len(index), 3) or (len(index) and index.max() >= n):
            return f"the shape {s.name} doesn't fit the points"
    return "" if _solvable(c) else "its rig can't be solved"


def _solvable(c: Character) -> bool:
    """Whether kits, controls and rules fit together: whatever a file says of them, a rig comes of it or it is refused."""
    if not c.kits and not c.controls and not c.rules:
        return True
    try:
        for rule in c.rules:
            checked(c, rule)
        compile_rig(c).evaluate({})
    except Exception:
        return False
    return True
