"""A whole character as one open file: a ZIP of one JSON and .npy arrays (docs/character-file.md)."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ..core.character import Arrays, Character, Inputs, content_hash
from ..core.errors import BadFile, TooLarge, VonkelError, first_fault
from ..core.formats.reading import array_from_npy, npy, reading
from ..core.loading import loaded
from ..core.soundness import unsound
from ..steps.registry import parsed
from ..store import Kept, Store
from ..store.store import array_names

ENDING = ".vonkel"
MAX_UNPACKED = 2 * 1024**3
MAX_DESCRIPTION = 64 * 1024**2
MAX_MEMBERS = 100_000
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]


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


def pack(store: Store, character: int, pose: tuple[Inputs, str]) -> bytes:
    """The character with its ledger up to where one stands, its milestones, and the pose (values, label) it is in."""
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
    values, label = pose
    name = next(s.name for s in store.characters() if s.id == character)
    listed = CharacterFile(name=name, steps=steps, milestones=marks, pose=values, pose_label=label)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("character.json", listed.model_dump_json(indent=1))
        for digest in wanted:
            z.writestr(f"arrays/{digest}.npy", npy(store.array(digest)))
    return out.getvalue()


@dataclass(frozen=True)
class Opened:
    """A character's file, read and found sound: what the store takes over whole."""

    name: str
    steps: list[Kept]
    arrays: dict[str, np.ndarray]
    milestones: list[tuple[int, str, float]]
    pose: tuple[dict[str, dict[str, float]], str]
    last: Character  # the state one stands on


def opened(data: bytes, where: str) -> Opened:
    """A character from its file.  Raises BadFile saying what is wrong, and TooLarge."""
    with reading(where, "character file"):
        with zipfile.ZipFile(io.BytesIO(data)) as z:
            if sum(i.file_size for i in z.infolist()) > MAX_UNPACKED or len(z.infolist()) > MAX_MEMBERS:
                raise TooLarge("The character unpacks to more than 2 GB.", where, "Compact its store and export again.")
            listed = _description(z, where)
            arrays = {d: _array(z, d, where) for d in dict.fromkeys(d for s in listed.steps for d in _names(s))}
        checked: list[tuple[Kept, Character | None]] = []
        before: Character | None = None
        for i, s in enumerate(listed.steps):
            checked.append(_checked(s, arrays, i, where, before))
            before = checked[-1][1] or before
        kept = [k for k, _ in checked]
        last = checked[-1][1]
        if kept[0].document is None or last is None:
            raise BadFile("It lacks the first or the last state.", where, "Export the character again.")
        if any(m.number > len(kept) for m in listed.milestones):
            raise BadFile("A milestone stands on a step that isn't there.", where, "Export the character again.")
        marks = [(m.number, m.name, m.made) for m in listed.milestones]
        return Opened(listed.name, kept, arrays, marks, (listed.pose, listed.pose_label), last)


def _description(z: zipfile.ZipFile, where: str) -> CharacterFile:
    if z.getinfo("character.json").file_size > MAX_DESCRIPTION:
        raise TooLarge(f"Its description is larger than {MAX_DESCRIPTION // 2**20} MB.", where, "Export it again.")
    try:
        return CharacterFile.model_validate_json(z.read("character.json"))
    except ValidationError as error:
        field, why = first_fault(error, "file")
        raise BadFile(f"“{field}” in it is out of order: {why}.", where, "Export it again.") from None


def _names(step: FileStep) -> list[str]:
    return [*(step.snapshot.arrays.values() if step.snapshot else ()), *array_names(step.params)]


def _array(z: zipfile.ZipFile, digest: str, where: str) -> np.ndarray:
    array = array_from_npy(z.read(f"arrays/{digest}.npy"))
    if array is None:
        raise BadFile("An array in it can't be read.", f"{where}, {digest}", "Export the character again.")
    if content_hash(array) != digest:
        raise BadFile("An array in it was changed.", f"{where}, {digest}", "Export the character again.")
    return array


def _checked(
    step: FileStep, arrays: dict[str, np.ndarray], i: int, where: str, before: Character | None
) -> tuple[Kept, Character | None]:  # fmt: skip
    """One step of the file, its parameters known and its state sound; `before`: the sound state before it."""
    place = f"{where}, step {i + 1}"
    if i:
        try:
            parsed(step.name, _filled(step.params, arrays))
        except VonkelError as error:
            raise BadFile(f"Step {i + 1} can't be used: {error.what}", place, error.todo) from None
    if step.snapshot is None:
        return Kept(step.name, step.params, step.sentence, step.made, step.seconds, None, {}), None
    held = Arrays({n: arrays[d] for n, d in step.snapshot.arrays.items()}, step.snapshot.arrays)
    try:
        made = loaded(json.dumps(step.snapshot.document), held)
    except ValidationError as error:
        why = first_fault(error)[1]
        raise BadFile(f"A state in it is out of order: {why}.", place, "Export the character again.") from None
    problem = unsound(made, before)
    if problem:
        raise BadFile(f"A state in it doesn't fit together: {problem}.", place, "Export the character again.")
    document = made.model_dump_json()
    return Kept(step.name, step.params, step.sentence, step.made, step.seconds, document, step.snapshot.arrays), made


def _filled(value: Any, arrays: dict[str, np.ndarray]) -> Any:
    if isinstance(value, dict):
        if set(value) == {"array"}:
            return arrays.get(str(value["array"]))
        return {k: _filled(v, arrays) for k, v in value.items()}
    return [_filled(v, arrays) for v in value] if isinstance(value, list) else value
