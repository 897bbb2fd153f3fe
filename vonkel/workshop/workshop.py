"""Characters in the store, worked on through steps."""

from __future__ import annotations

import base64
import json
import threading
import time
from collections import OrderedDict
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from ..core.character import Arrays, Character, Inputs, content_hash, unique_name
from ..core.errors import BadFile, BadParameters, NotFound, StepRefused, first_fault
from ..core.formats import read_character, read_mesh
from ..core.formats.mesh import character_from_mesh
from ..core.formats.pictures import picture_size
from ..core.joints.plans import OwnPlan, save_plan
from ..core.shapes import moved_whole
from ..core.trials import run_trials
from ..steps.recipe import Recipe, RecipeStep
from ..steps.registry import Params, apply_step, parsed
from ..store import Position, Store
from .package import ENDING, pack, unpack

ROOT_STEP = "model.bring_in"  # how every ledger begins; it is not replayed: a recipe starts from a mesh


class Workshop:
    """One store with its characters.  Methods may be called from any thread."""

    def __init__(self, folder: Path) -> None:
        self.store = Store(Path(folder) / "vonkel.db")
        self._cache: OrderedDict[str, Character] = OrderedDict()
        self._lock = threading.Lock()

    # -- reading -------------------------------------------------------------------------------------------------
    def character(self, character: int, step: int | None = None) -> Character:
        """The character as it stands, or as it stood after a step."""
        step = step if step is not None else self.store.position(character).step
        digest = self.store.snapshot_hash(step)
        if digest is None:
            return self._replayed(character, step)
        return self._from_snapshot(digest)

    def _from_snapshot(self, digest: str) -> Character:
        with self._lock:
            if digest in self._cache:
                self._cache.move_to_end(digest)
                return self._cache[digest]
        document, names = self.store.snapshot(digest)
        arrays = Arrays({n: self._array(h) for n, h in names.items()}, names)
        made = Character.model_validate_json(document).with_().model_copy(update={"arrays": arrays})
        self._keep(digest, made)
        return made

    def _array(self, digest: str) -> np.ndarray:
        """An array by its hash, shared with characters already in memory."""
        with self._lock:
            for c in reversed(self._cache.values()):
                for n in c.arrays:
                    if c.arrays.hash_of(n) == digest:
                        return c.arrays[n]
        return self.store.array(digest)

    def _keep(self, digest: str, character: Character) -> None:
        with self._lock:
            self._cache[digest] = character
            while len(self._cache) > 12:
                self._cache.popitem(last=False)

    def _replayed(self, character: int, step: int) -> Character:
        """A state whose snapshot was compacted away, made again from the nearest earlier one."""
        rows = {r.id: r for r in self.store.ledger(character)}
        order = sorted(rows.values(), key=lambda r: r.number)
        if step not in rows:
            raise NotFound("That step is no longer kept.", f"number {step}")
        upto = [r for r in order if r.number <= rows[step].number]
        start = max(i for i, r in enumerate(upto) if r.kept)
        made = self.character(character, upto[start].id)
        for row in upto[start + 1 :]:
            made, _ = apply_step(made, row.name, self._with_arrays(row.params))
        return made

    # -- making --------------------------------------------------------------------------------------------------
    def bring_in(self, file_name: str, data: bytes, called: str = "") -> int:
        """A new character from a mesh file.  Raises BadFile and leaves nothing behind."""
        if file_name.lower().endswith(ENDING):
            number = unpack(self.store, data, file_name)
            if called:
                self.apply(number, "model.rename", {"name": called, "about": self.character(number).about})
            return number
        began = time.perf_counter()
        made = read_character(file_name, data, called)
        return self.add(
            made, {"file": Path(file_name).name}, f"Brought in {Path(file_name).name}", time.perf_counter() - began
        )

    def add(self, made: Character, params: dict[str, Any], sentence: str, seconds: float = 0.0) -> int:
        return self.store.create(
            made.name, ROOT_STEP, params, sentence, made.model_dump_json(), self._arrays(made), seconds
        )

    @staticmethod
    def _arrays(c: Character) -> dict[str, tuple[str, np.ndarray]]:
        return {n: (c.arrays.hash_of(n), c.arrays[n]) for n in c.arrays}

    def apply(self, character: int, name: str, params: dict[str, Any], expected: int | None = None) -> Position:
        """Do a step and store it.  Returns where one stands now.

        Raises Conflict where the present step is not `expected`, before and after the work.
        """
        began = time.perf_counter()
        here = self.store.position(character).step
        self.store.expect(here, expected)
        before = self.character(character, here)
        _, checked = parsed(name, self._with_arrays(params))
        after, sentence = apply_step(before, name, {k: getattr(checked, k) for k in type(checked).model_fields})
        return self._store(character, here, name, checked, after, sentence, time.perf_counter() - began)

    def _store(
        self, character: int, expected: int, name: str, params: Params, after: Character, sentence: str, seconds: float
    ) -> Position:
        listed, extra = _split_arrays(params)
        step = self.store.append(
            character, expected, name, listed, sentence, after.model_dump_json(), self._arrays(after), extra, seconds,
            after.name,
        )  # fmt: skip
        digest = self.store.snapshot_hash(step)
        if digest:
            self._keep(digest, after)
        return self.store.position(character)

    def _with_arrays(self, value: Any) -> Any:
        """Parameters with {"array": hash} turned into the arrays themselves."""
        if isinstance(value, dict):
            if set(value) == {"array"}:
                return self.store.array(str(value["array"]))
            return {k: self._with_arrays(v) for k, v in value.items()}
        return value

    def edit_step(self, character: int, step: int, params: dict[str, Any], expected: int | None = None) -> Position:
        """Do an earlier step with other parameters, and again all that followed it.

        The old line is left aside (and dropped by the next compaction); nothing changes unless every step can be
        done again.
        """
        rows = [r for r in self.store.ledger(character) if not r.undone]
        at = next((i for i, r in enumerate(rows) if r.id == step), None)
        if not at:
            raise StepRefused("That step can't be edited.", "", "Choose a later one.")
        here = self.store.position(character).step
        self.store.expect(here, expected)
        made = self.character(character, rows[at - 1].id)
        done = []
        for i, row in enumerate(rows[at:]):
            given = params if i == 0 else row.params
            _, checked = parsed(row.name, self._with_arrays(given))
            made, sentence = apply_step(made, row.name, {k: getattr(checked, k) for k in type(checked).model_fields})
            done.append((row.name, checked, made, sentence))
        position = self.store.go(character, here, rows[at - 1].id)
        for name, checked, after, sentence in done:
            position = self._store(character, position.step, name, checked, after, sentence, 0.0)
        return position

    def run_recipe(self, character: int, recipe: Recipe, expected: int | None = None) -> Position:
        """Run a recipe's steps, each stored; all or none: a refusal goes back to where one stood."""
        start = self.store.position(character)
        self.store.expect(start.step, expected)
        position = start
        try:
            for s in recipe.steps:
                position = self.apply(character, s.step, s.params, position.step)
        except Exception:
            if position.step != start.step:
                self.store.go(character, position.step, start.step)
            raise
        return position

    def recipe(self, character: int, name: str) -> Recipe:
        """The ledger up to where one stands, as a recipe."""
        steps = [
            RecipeStep(step=r.name, params=self._inlined(r.params))
            for r in self.store.ledger(character)
            if not r.undone and r.name != ROOT_STEP
        ]
        return Recipe(name=name, about=f"Saved from the ledger of {name}.", steps=steps)

    def _inlined(self, value: Any) -> Any:
        if isinstance(value, dict):
            if set(value) == {"array"}:
                import io

                out = io.BytesIO()
                np.save(out, self.store.array(str(value["array"])), allow_pickle=False)
                return {"npy": base64.b64encode(out.getvalue()).decode()}
            return {k: self._inlined(v) for k, v in value.items()}
        return value

    # -- whole characters ----------------------------------------------------------------------------------------
    def pack(self, character: int) -> bytes:
        """The character whole, as the bytes of its file."""
        return pack(self.store, character)

    def duplicate(self, character: int) -> int:
        """Another character with the same ledger, milestones and pose, under a name of its own."""
        c = self.character(character)
        taken = {s.name for s in self.store.characters()}
        number = unpack(self.store, pack(self.store, character), c.name)
        self.apply(number, "model.rename", {"name": unique_name(c.name, taken)[:80], "about": c.about})
        return number

    # -- files into characters -----------------------------------------------------------------------------------
    def add_parts(self, character: int, file_name: str, data: bytes, expected: int | None = None) -> Position:
        """More parts from a mesh or a drawing."""
        brought = character_from_mesh(read_mesh(file_name, data), "parts", file_name)
        a = brought.arrays
        empty = np.zeros(1, np.int32), np.zeros(0, np.int32)
        part = np.concatenate([np.full(p.points[1] - p.points[0], i) for i, p in enumerate(brought.parts)])
        stem = Path(file_name).stem
        names = [stem if p.name in ("body", "lines") else p.name for p in brought.parts]
        params = {
            "names": names, "points": brought.points, "point_part": part, "face_starts": a["face_starts"],
            "face_corners": a["face_corners"], "line_starts": a.get("line_starts", empty[0]),
            "line_points": a.get("line_points", empty[1]),
        }  # fmt: skip
        return self.apply(character, "model.add_parts", params, expected)

    def add_picture(self, character: int, file_name: str, data: bytes, view: str, expected: int | None) -> Position:
        picture_size(data, file_name)
        params = {"name": Path(file_name).stem or "picture", "view": view, "data": np.frombuffer(data, np.uint8)}
        return self.apply(character, "model.add_picture", params, expected)

    def set_texture(self, character: int, file_name: str, data: bytes, expected: int | None) -> Position:
        picture_size(data, file_name)
        return self.apply(character, "model.texture", {"data": np.frombuffer(data, np.uint8)}, expected)

    # -- plans of one's own --------------------------------------------------------------------------------------
    def save_plan(self, character: int, name: str, with_kits: bool = True) -> int:
        """The character's skeleton kept as a plan.  Returns its number."""
        return self.store.add_plan(name, save_plan(self.character(character), name, with_kits).model_dump_json())

    def take_plan(self, text: str | bytes, where: str) -> int:
        """A plan from its file."""
        try:
            plan = OwnPlan.model_validate_json(text)
        except ValidationError as error:
            field, why = first_fault(error, "file")
            raise BadFile(f"This is no plan: “{field}”: {why}.", where, "Save one from a character.") from None
        return self.store.add_plan(plan.name, plan.model_dump_json())

    def plan(self, number: int) -> OwnPlan:
        for row in self.store.plans():
            if row.id == number:
                return OwnPlan.model_validate_json(row.body)
        raise NotFound("There is no such plan.", f"number {number}", "Choose one from the list.")

    # -- poses, trials -------------------------------------------------------------------------------------------
    def pose(self, character: int) -> Inputs:
        return self.store.pose(character)[0]

    def set_pose(self, character: int, values: Inputs, label: str, expected: Position | None = None) -> Position:
        """One entry of the pose history.  Unknown controls and channels are refused."""
        c = self.character(character)
        known = {(k.name, ch.name) for k in c.controls for ch in k.channels} | {("shapes", s.name) for s in c.shapes}
        for control, given in values.items():
            for channel, value in given.items():
                if (control, channel) not in known:
                    raise BadParameters(f"There is no channel “{channel}” on “{control}”.", c.name)
                if not np.isfinite(value):
                    raise BadParameters(f"“{channel}” of “{control}” is not a number.", c.name)
        kept = {k: {n: float(x) for n, x in v.items() if x != 0.0 or n == "ik"} for k, v in values.items()}
        return self.store.append_pose(character, expected, {k: v for k, v in kept.items() if v}, label[:120])

    def add_shape(self, character: int, file_name: str, data: bytes, name: str, expected: int | None) -> Position:
        """A morph target from a mesh file with the same points."""
        mesh = character_from_mesh(read_mesh(file_name, data), "shape", file_name)
        moved = moved_whole(self.character(character), mesh.points)
        return self.apply(character, "shapes.add", {"name": name or Path(file_name).stem, "points": moved}, expected)

    def run_trials(self, character: int) -> list[dict[str, Any]]:
        """Run the trials on the present state and keep the cards."""
        step = self.store.position(character).step
        digest = self.store.snapshot_hash(step)
        cards = run_trials(self.character(character, step))
        listed = [{**c.as_dict(), "picture": base64.b64encode(c.picture).decode()} for c in cards]
        if digest:
            self.store.put_result(digest, "trials", json.dumps(listed).encode())
        return listed

    def trials(self, character: int) -> tuple[list[dict[str, Any]], bool]:
        """The newest cards at hand, and whether they are of the present state."""
        rows = [r for r in self.store.ledger(character) if not r.undone]
        for row in reversed(rows):
            digest = self.store.snapshot_hash(row.id)
            body = self.store.result(digest, "trials") if digest else None
            if body:
                return json.loads(body), row is rows[-1]
        return [], False


def _split_arrays(params: Params) -> tuple[dict[str, Any], list[tuple[str, np.ndarray]]]:
    """Parameters as JSON with arrays named by hash, and those arrays."""
    extra: list[tuple[str, np.ndarray]] = []
    arrays = {k: getattr(params, k) for k in type(params).model_fields if isinstance(getattr(params, k), np.ndarray)}
    listed = params.model_dump(mode="json", exclude=set(arrays))
    for key, array in arrays.items():
        digest = content_hash(array)
        extra.append((digest, array))
        listed[key] = {"array": digest}
    return listed, extra
