"""Characters in the store, worked on through steps."""

from __future__ import annotations

import base64
import json
import logging
import threading
import time
from collections import OrderedDict
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from ..core.character import Arrays, Character, Inputs, Ref, content_hash, unique_name
from ..core.character.boards import ACROSS, UP
from ..core.character.references import known_values, renamed_values, renames
from ..core.character.words import clean_name
from ..core.errors import BadFile, BadParameters, NotFound, StepRefused, StoreTrouble, VonkelError, first_fault
from ..core.formats import read_character, read_mesh
from ..core.formats.mesh import character_from_mesh
from ..core.formats.pictures import picture_size
from ..core.formats.reading import npy, reading
from ..core.loading import loaded
from ..core.plans import OwnPlan, save_plan
from ..core.progress import tell
from ..core.retargeting import matched
from ..core.retargeting.playing import tabled
from ..core.shapes import moved_whole, moves_of
from ..core.soundness import unsound
from ..core.trials import run_trials
from ..readings.trial_compare import compared
from ..steps.motion import bringing
from ..steps.recipe import Recipe, RecipeStep
from ..steps.registry import STEPS, Params, apply_step, parsed
from ..store import Made, Position, Store
from .listening import Kind, Listener
from .package import ENDING, Opened, opened, pack

log = logging.getLogger("vonkel.workshop")

ROOT_STEP = "model.bring_in"  # how every ledger begins; it is not replayed: a recipe starts from a mesh


class Workshop:
    """One store with its characters.  Methods may be called from any thread."""

    def __init__(self, folder: Path) -> None:
        self.store = Store(Path(folder) / "vonkel.db")
        self._cache: OrderedDict[str, Character] = OrderedDict()
        self._lock = threading.Lock()
        self.listeners: dict[int, Listener] = {}  # character → the device that its page listens to
        self.changed_steps: set[int] = set()  # made again, and not exactly what they were

    # -- reading -------------------------------------------------------------------------------------------------
    def character(self, character: int, step: int | None = None) -> Character:
        """The character as it stands, or as it stood after a step."""
        step = step if step is not None else self.store.position(character).step
        digest = self.store.snapshot_hash(step)
        key = digest or f"replayed to step {step}"  # a step's number is never given again
        with self._lock:
            if key in self._cache:
                self._cache.move_to_end(key)
                return self._cache[key]
        made = self._from_snapshot(digest) if digest else self._replayed(character, step)
        self._keep(key, made)
        return made

    def _from_snapshot(self, digest: str) -> Character:
        document, names = self.store.snapshot(digest)
        arrays = Arrays({n: self._array(h) for n, h in names.items()}, names)
        try:
            return loaded(document, arrays)
        except ValidationError as error:
            field, why = first_fault(error)
            raise StoreTrouble(
                "This state of the character can't be read.", f"“{field}”: {why}", "Take the last step back: undo."
            ) from None

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
        if not self.store.is_as_it_was(step, made.model_dump_json(), {n: made.arrays.hash_of(n) for n in made.arrays}):
            log.warning("step %s was made again and isn't exactly what it was", step)
            self.changed_steps.add(step)
        return made

    # -- making --------------------------------------------------------------------------------------------------
    def bring_in(self, file_name: str, data: bytes, called: str = "", beside: Mapping[str, bytes] | None = None) -> int:
        """A new character from a mesh file, and the files `beside` it that it names.  Raises BadFile and leaves nothing."""
        if file_name.lower().endswith(ENDING):
            return self._adopt(opened(data, file_name), called)
        began = time.perf_counter()
        made = read_character(file_name, data, called, beside)
        return self.add(
            made, {"file": Path(file_name).name}, f"Brought in {Path(file_name).name}", time.perf_counter() - began
        )

    def add(self, made: Character, params: dict[str, Any], sentence: str, seconds: float = 0.0) -> int:
        """A character as the first step of a ledger of its own.  Raises BadFile for one that is unsound."""
        fault = unsound(made)
        if fault:
            raise BadFile(f"What was read is no whole character: {fault}.", made.name, "Export it again.")
        return self.store.create(
            made.name, Made(ROOT_STEP, params, sentence, made.model_dump_json(), self._arrays(made), (), seconds)
        )

    @staticmethod
    def _arrays(c: Character) -> dict[str, tuple[str, np.ndarray]]:
        return {n: (c.arrays.hash_of(n), c.arrays[n]) for n in c.arrays}

    def apply(self, character: int, name: str, params: dict[str, Any], expected: int | None = None) -> Position:
        """Do a step and store it.  Returns where one stands now.

        Raises Conflict where the present step is not `expected`, before and after the work.
        """
        here = self.store.position(character).step
        self.store.expect(here, expected)
        made = self._done(self.character(character, here), name, params)
        return self._keep_line(character, here, [made])

    def _done(self, before: Character, name: str, params: dict[str, Any]) -> tuple[Character, Made]:
        """A step done on a character, and what the ledger will keep of it; nothing is stored yet."""
        began = time.perf_counter()
        _, given = parsed(name, self._with_arrays(params))
        after, sentence = apply_step(before, name, {k: getattr(given, k) for k in type(given).model_fields})
        listed, extra = _split_arrays(given)
        seconds = time.perf_counter() - began
        document, arrays = after.model_dump_json(), self._arrays(after)
        return after, Made(name, listed, sentence, document, arrays, extra, seconds, after.name)

    def _done_in_turn(
        self, state: Character, todo: list[tuple[str, dict[str, Any], str]]
    ) -> list[tuple[Character, Made]]:
        """Steps (name, parameters, where it is told to stand) one after the other; nothing is stored yet."""
        done: list[tuple[Character, Made]] = []
        for i, (name, params, place) in enumerate(todo):
            tell(i / len(todo), name)
            try:
                state, made = self._done(state, name, params)
            except VonkelError as error:
                error.where = f"{place}: {error.where}" if error.where else place
                raise
            done.append((state, made))
        return done

    def _keep_line(
        self, character: int, expected: int, done: list[tuple[Character, Made]], after: int | None = None
    ) -> Position:  # fmt: skip
        """Store steps in one transaction; one stands on the last of them."""
        steps = self.store.append(character, expected, [made for _, made in done], after)
        for step, (state, _) in list(zip(steps, done, strict=True))[-3:]:
            digest = self.store.snapshot_hash(step)
            if digest:
                self._keep(digest, state)
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
        todo = [(r.name, params if r.id == step else r.params, f"step {r.number}, {r.name}") for r in rows[at:]]
        done = self._done_in_turn(self.character(character, rows[at - 1].id), todo)
        return self._keep_line(character, here, done, rows[at - 1].id)

    def run_recipe(self, character: int, recipe: Recipe, expected: int | None = None) -> Position:
        """Run a recipe's steps and store them in one transaction: all or none."""
        start = self.store.position(character)
        self.store.expect(start.step, expected)
        count = len(recipe.steps)
        todo = [(s.step, s.params, f"step {i} of {count}, {s.step}") for i, s in enumerate(recipe.steps, 1)]
        done = self._done_in_turn(self.character(character, start.step), todo)
        return self._keep_line(character, start.step, done) if done else start

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
                return {"npy": base64.b64encode(npy(self.store.array(str(value["array"])))).decode()}
            return {k: self._inlined(v) for k, v in value.items()}
        return value

    # -- whole characters ----------------------------------------------------------------------------------------
    def pack(self, character: int) -> bytes:
        """The character whole, as the bytes of its file."""
        return pack(self.store, character, self.pose(character))

    def duplicate(self, character: int) -> int:
        """Another character with the same ledger, milestones and pose, under a name of its own."""
        c = self.character(character)
        taken = {s.name for s in self.store.characters()}
        return self._adopt(opened(self.pack(character), c.name), unique_name(c.name, taken))

    def _adopt(self, whole: Opened, called: str = "") -> int:
        """A whole character taken in, under another name where one is given: one transaction."""
        then = []
        if called and clean_name(called) != whole.name:
            last = whole.last
            then = [self._done(last, "model.rename", {"name": clean_name(called), "about": last.about})[1]]
        name = then[-1].called if then else whole.name
        return self.store.adopt(name, whole.steps, whole.arrays, whole.milestones, whole.pose, then)

    # -- files into characters -----------------------------------------------------------------------------------
    def add_parts(
        self, character: int, file_name: str, data: bytes, expected: int | None = None,
        beside: Mapping[str, bytes] | None = None,
    ) -> Position:  # fmt: skip
        """More parts from a mesh or a drawing."""
        with reading(file_name):
            brought = character_from_mesh(read_mesh(file_name, data, beside), "parts", file_name)
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

    def join_head(
        self, character: int, other: int, onto: str, below: str = "", move: tuple[float, float, float] = (0.0, 0.0, 0.0),
        expected: int | None = None,
    ) -> Position:  # fmt: skip
        """Another character, a head that was rigged alone, hung on a joint of this one; the other stays as it is."""
        head = self.character(other)
        names = sorted(head.arrays)
        files = [npy(head.arrays[n]) for n in names]
        params = {
            "document": head.model_dump_json(), "names": names, "sizes": [len(f) for f in files],
            "arrays": np.frombuffer(b"".join(files), np.uint8), "onto": onto, "below": below, "move": move,
        }  # fmt: skip
        return self.apply(character, "face.join_head", params, expected)

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
    def pose(self, character: int) -> tuple[Inputs, str]:
        """The pose one stands on, in the present state's own names, and what was done last; rest is ({}, "").

        What was posed at another step of the line is read through the renames in between; what the present state has no
        channel for stands at rest, and comes back when one goes back.
        """
        values, label, made_at = self.store.pose(character)
        if not values:
            return values, label
        here = self.store.position(character).step
        for before, after in self._renaming(character, made_at, here):
            values = renamed_values(
                values, renames(self.character(character, before), self.character(character, after))
            )
        return known_values(self.character(character, here), values), label

    def _renaming(self, character: int, start: int, end: int) -> list[tuple[int, int]]:
        """The steps between two of the line that may have given things other names: (from, to), the way one goes."""
        if start == end:
            return []
        rows = self.store.ledger(character)
        place = {r.id: i for i, r in enumerate(rows)}
        if start not in place or end not in place:
            return []
        low, high = sorted((place[start], place[end]))
        pairs = [
            (a.id, b.id) for a, b in zip(rows[low:high], rows[low + 1 : high + 1], strict=True) if STEPS[b.name].renames
        ]
        return pairs if place[start] == low else [(b, a) for a, b in reversed(pairs)]

    def set_pose(self, character: int, values: Inputs, label: str, expected: Position | None = None) -> Position:
        """One entry of the pose history.  Unknown controls and channels are refused."""
        c = self.character(character)
        known = {(k.name, ch.name) for k in c.controls for ch in k.channels} | {("shapes", s.name) for s in c.shapes}
        known |= {(str(Ref.board(b.name)), k) for b in c.boards for k in (ACROSS, UP)}
        for control, given in values.items():
            for channel, value in given.items():
                if (control, channel) not in known:
                    raise BadParameters(f"There is no channel “{channel}” on “{control}”.", c.name)
                if not np.isfinite(value):
                    raise BadParameters(f"“{channel}” of “{control}” is not a number.", c.name)
        kept = {k: {n: float(x) for n, x in v.items() if x != 0.0 or n == "ik"} for k, v in values.items()}
        return self.store.append_pose(character, expected, {k: v for k, v in kept.items() if v}, label[:120])

    def add_shape(
        self, character: int, file_name: str, data: bytes, name: str, expected: int | None,
        beside: Mapping[str, bytes] | None = None,
    ) -> Position:  # fmt: skip
        """A morph target from a mesh file with the same points."""
        return self.add_shapes(character, file_name, data, name, expected, beside)

    def add_shapes(
        self, character: int, file_name: str, data: bytes, name: str, expected: int | None,
        beside: Mapping[str, bytes] | None = None, rest: tuple[str, bytes] | None = None,
    ) -> Position:  # fmt: skip
        """Morph targets from a mesh file with the same points: those that it brings along, or the mesh itself.

        rest: (file name, bytes) of the same mesh at rest, where the points stand in another order.
        """
        title = name or Path(file_name).stem
        mesh = self._mesh(file_name, data, beside)
        now = self.character(character)
        if rest is not None:
            params = {"name": title, "points": mesh.points, "rest": self._mesh(*rest).points}
            return self.apply(character, "shapes.add_by_place", params, expected)
        if not mesh.shapes:
            moved = moved_whole(now, mesh.points)
            return self.apply(character, "shapes.add", {"name": title, "points": moved}, expected)
        position = self.store.position(character)
        for shape in mesh.shapes:  # what the mesh itself does isn't looked at: it is the rest of its shapes
            whole = moved_whole(now, mesh.points)
            own = now.points + (moved_whole(now, mesh.points + moves_of(mesh, shape.name)) - whole)
            position = self.apply(character, "shapes.add", {"name": shape.name, "points": own}, expected)
            expected = position.step
        return position

    def _mesh(self, file_name: str, data: bytes, beside: Mapping[str, bytes] | None = None) -> Character:
        with reading(file_name):
            return character_from_mesh(read_mesh(file_name, data, beside), "shape", file_name)

    def run_trials(self, character: int, with_sweeps: bool = False) -> list[dict[str, Any]]:
        """Run the trials on the present state, with every joint through its freedom or without, and keep the cards."""
        step = self.store.position(character).step
        cards = run_trials(self.character(character, step), with_sweeps=with_sweeps)
        listed = [c.as_dict(with_picture=True) for c in cards]
        self.keep_trials(character, listed, step)
        return listed

    def listen(self, character: int, kind: Kind, port: int) -> Listener:
        """Listen to a device on this machine; what was listened to before is let go.  Raises NotFound, BadFile."""
        self.deafen(character)
        self.character(character)
        self.listeners[character] = Listener(kind, port).start()
        return self.listeners[character]

    def deafen(self, character: int) -> Listener | None:
        """Listen no longer; what was heard can still be kept."""
        listener = self.listeners.get(character)
        if listener is not None:
            listener.stop()
        return listener

    def keep_heard(self, character: int, name: str, expected: int | None = None) -> Position:
        """What was heard becomes a motion.  Raises StepRefused where nothing was."""
        listener = self.deafen(character)
        if listener is None:
            raise StepRefused("Nothing was listened to.", name, "Connect to a device first.")
        now = self.character(character)
        if listener.kind == "suit":
            capture = listener.heard()
            matches = {m.joint: m.source for m in matched(now, capture.skeleton)}
            position = self.apply(character, "motion.bring", bringing(name, capture, matches), expected)
        else:
            tracks, values = tabled(now, listener.faces(now, now.rate))
            params = {"name": name, "rate": now.rate, "tracks": tracks, "values": values.astype(np.float32)}
            position = self.apply(character, "motion.add", params, expected)
        del self.listeners[character]
        return position

    def keep_trials(self, character: int, cards: list[dict[str, Any]], step: int | None = None) -> None:
        """Keep cards (with pictures) of a state; none: the present one."""
        digest = self.store.snapshot_hash(step or self.store.position(character).step)
        if digest:
            self.store.put_result(digest, "trials", json.dumps(cards).encode())

    def trials_of(self, character: int, step: int) -> list[dict[str, Any]]:
        """The cards of a state, which are kept: of poses, motions, faces and shapes.  Raises NotFound."""
        digest = self.store.snapshot_hash(step)
        kept = self.store.result(digest, "trials") if digest else None
        if kept is not None:
            found: list[dict[str, Any]] = json.loads(kept)
            return found
        cards = [c.as_dict(with_picture=True) for c in run_trials(self.character(character, step))]
        self.keep_trials(character, cards, step)
        return cards

    def compare_trials(self, character: int, a: int, b: int, bind: dict[str, Any] | None = None) -> dict[str, Any]:
        """Two states card by card; with `bind` the second is the state `b` bound so, which is not kept."""
        first = self.trials_of(character, a)
        if bind is None:
            return compared(first, self.trials_of(character, b))
        tell(0.4, "binding")
        bound, _ = apply_step(self.character(character, b), "skin.bind", bind)
        return compared(first, [c.as_dict(with_picture=True) for c in run_trials(bound)])

    def trials(self, character: int) -> tuple[list[dict[str, Any]], bool]:
        """The newest cards at hand, and whether they are of the present state."""
        found = self.store.newest_result(character, "trials")
        return (json.loads(found[1]), found[0] == self.store.position(character).step) if found else ([], False)


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
