"""The store: one SQLite file.  Every change is one transaction, on disk before it is acknowledged."""

from __future__ import annotations

import hashlib
import json
import sqlite3
import time
import zlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.character import content_hash
from ..core.errors import Conflict, NotFound
from .troubles import damaged, newer, told

HERE = Path(__file__).parent
PATIENCE = 30.0  # seconds that a change waits for another program to let go of the store
VERSION = 3  # the number of the newest migration


@dataclass(frozen=True)
class Position:
    """Where one stands on a character: a step of the ledger and an entry of the pose history (0 is rest)."""

    step: int
    pose: int


@dataclass(frozen=True)
class Summary:
    id: int
    name: str
    created: float
    changed: float
    steps: int
    archived: bool = False


@dataclass(frozen=True)
class LedgerRow:
    id: int
    number: int
    name: str
    params: dict[str, Any]
    sentence: str
    made: float
    seconds: float
    undone: bool
    kept: bool  # its snapshot is still held


@dataclass(frozen=True)
class Kept:
    """A step as it stands in a character's file; without a document it is made again by replaying."""

    name: str
    params: dict[str, Any]
    sentence: str
    made: float
    seconds: float
    document: str | None
    arrays: dict[str, str]


@dataclass(frozen=True)
class Made:
    """A step that was done: what the ledger keeps of it, and the whole state that it led to.

    `arrays`: the state's, name → (hash, array); `extra`: those that the parameters name by hash.
    """

    step: str
    params: dict[str, Any]
    sentence: str
    document: str
    arrays: Mapping[str, tuple[str, np.ndarray]]
    extra: Sequence[tuple[str, np.ndarray]] = ()
    seconds: float = 0.0
    called: str = ""  # the character's name from now on

    def kept(self, made: float) -> Kept:
        hashes = {n: h for n, (h, _) in self.arrays.items()}
        return Kept(self.step, self.params, self.sentence, made, self.seconds, self.document, hashes)


@dataclass(frozen=True)
class OwnPlanRow:
    id: int
    name: str
    body: str
    made: float


@dataclass(frozen=True)
class Milestone:
    id: int
    step: int
    name: str
    made: float


class Store:
    """Opens or makes the file at `path`.  Methods may be called from any thread."""

    def __init__(self, path: Path) -> None:
        self.path = Path(path)
        with told(self.path):
            self.path.parent.mkdir(parents=True, exist_ok=True)
        with self._open() as db:
            version = db.execute("PRAGMA user_version").fetchone()[0]
            if not 0 <= version <= VERSION:
                raise newer(self.path, version, VERSION)
            if db.execute("PRAGMA journal_mode").fetchone()[0] != "wal":
                db.execute("PRAGMA journal_mode = WAL")
            if version == 0:
                db.executescript(
                    f"BEGIN; {(HERE / 'schema.sql').read_text('utf-8')} PRAGMA user_version = {VERSION}; COMMIT;"
                )
            for number, script in migrations(version):
                db.executescript(f"BEGIN; {script} PRAGMA user_version = {number}; COMMIT;")

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        """A connection for one piece of work.  Whatever sqlite says against it becomes the project's own error."""
        with told(self.path):
            db = sqlite3.connect(self.path, timeout=PATIENCE, isolation_level=None)
            try:
                db.execute("PRAGMA foreign_keys = ON")
                db.execute("PRAGMA synchronous = FULL")  # an acknowledged step survives the power as well
                yield db
            finally:
                db.close()

    @contextmanager
    def _write(self) -> Iterator[sqlite3.Connection]:
        """One transaction: all of what is done inside, or nothing."""
        with self._open() as db:
            db.execute("BEGIN IMMEDIATE")
            try:
                yield db
                db.execute("COMMIT")
            except BaseException:
                if db.in_transaction:  # sqlite rolls back by itself when the disk is full
                    db.execute("ROLLBACK")
                raise

    # -- characters ----------------------------------------------------------------------------------------------
    def characters(self) -> list[Summary]:
        sql = (
            "SELECT c.id, c.name, c.created, c.changed, (SELECT number FROM step WHERE id = c.head), c.archived "
            "FROM character c WHERE c.head IS NOT NULL ORDER BY c.changed DESC"
        )
        with self._open() as db:
            return [Summary(row[0], row[1], row[2], row[3], row[4], bool(row[5])) for row in db.execute(sql)]

    def create(self, name: str, first: Made) -> int:
        """A new character whose ledger begins with one step.  Returns its id."""
        with self._write() as db:
            character = self._put_character(db, name)
            self._put_line(db, character, None, 0, [first])
            return character

    @staticmethod
    def _put_character(db: sqlite3.Connection, name: str) -> int:
        now = time.time()
        cursor = db.execute("INSERT INTO character(name, created, changed) VALUES (?, ?, ?)", (name, now, now))
        return int(cursor.lastrowid or 0)

    def delete(self, character: int) -> None:
        with self._write() as db:
            self._row(db, character)
            db.execute("DELETE FROM milestone WHERE character = ?", (character,))
            db.execute("DELETE FROM character WHERE id = ?", (character,))

    def archive(self, character: int, away: bool) -> None:
        """Put a character away, or take it out again; nothing of it changes."""
        with self._write() as db:
            self._row(db, character)
            db.execute("UPDATE character SET archived = ? WHERE id = ?", (int(away), character))

    def adopt(
        self, name: str, steps: list[Kept], arrays: Mapping[str, np.ndarray], milestones: list[tuple[int, str, float]],
        pose: tuple[dict[str, Any], str], then: Sequence[Made] = (),
    ) -> int:  # fmt: skip
        """A character with its whole ledger, and steps done on it since, in one transaction.

        `arrays`: hash → array, all that the snapshots and parameters name; `milestones`: (step's number, name, made).
        """
        with self._write() as db:
            character = self._put_character(db, name)
            self._put_arrays(db, arrays.items())
            at: int | None = None
            made: dict[int, int] = {}
            for number, s in enumerate(steps, 1):
                at = made[number] = self._put_step(db, character, at, number, s)
            db.execute("UPDATE character SET head = ?, tip = ? WHERE id = ?", (at, at, character))
            for number, label, when in milestones:
                self._put_milestone(db, character, made[number], label, when)
            if pose[0]:
                self._put_pose(db, character, 0, at, *pose)
            self._put_line(db, character, at, len(steps), then)
            return character

    @staticmethod
    def _put_arrays(db: sqlite3.Connection, arrays: Iterable[tuple[str, np.ndarray]]) -> None:
        for digest, array in arrays:
            if db.execute("SELECT 1 FROM blob WHERE hash = ?", (digest,)).fetchone() is None:
                data = np.ascontiguousarray(array)
                row = (digest, data.dtype.str, json.dumps(data.shape), data.tobytes())
                db.execute("INSERT INTO blob VALUES (?, ?, ?, ?)", row)

    def position(self, character: int) -> Position:
        with self._open() as db:
            head, _, pose, _ = self._row(db, character)
            return Position(head, pose)

    @staticmethod
    def _row(db: sqlite3.Connection, character: int) -> tuple[int, int, int, int]:
        row = db.execute("SELECT head, tip, pose, pose_tip FROM character WHERE id = ?", (character,)).fetchone()
        if row is None:
            raise NotFound("There is no such character.", f"number {character}", "Choose one of the characters.")
        head, tip, pose, pose_tip = row
        return head, tip, pose, pose_tip

    @staticmethod
    def expect(now: int, expected: int | None) -> None:
        """Raises Conflict where one stands elsewhere than the caller thinks."""
        if expected is not None and expected != now:
            raise Conflict(
                "The character was changed in another tab or by a command.", "",
                "Your change was not made. Look at what is there now, then make it again.",
            )  # fmt: skip

    # -- steps ---------------------------------------------------------------------------------------------------
    def append(
        self, character: int, expected: int | None, steps: Sequence[Made], after: int | None = None
    ) -> list[int]:  # fmt: skip
        """Add steps after the present one, or after an earlier one of its line; all of them or none.

        What had been undone, or came after `after`, is left aside.  Returns the steps' ids.  Raises Conflict where the
        present step is not `expected`.
        """
        with self._write() as db:
            head = self._row(db, character)[0]
            self.expect(head, expected)
            parent = head if after is None else after
            row = db.execute("SELECT number FROM step WHERE id = ? AND character = ?", (parent, character)).fetchone()
            if row is None:
                raise NotFound("There is no such step.", f"number {parent}")
            return self._put_line(db, character, parent, row[0], steps)

    def _put_line(
        self, db: sqlite3.Connection, character: int, parent: int | None, number: int, steps: Sequence[Made]
    ) -> list[int]:  # fmt: skip
        """Steps one after the other behind `parent`, which has that number; one stands on the last of them."""
        made: list[int] = []
        now = time.time()
        for i, s in enumerate(steps, 1):
            self._put_arrays(db, [*s.arrays.values(), *s.extra])
            parent = self._put_step(db, character, parent, number + i, s.kept(now))
            made.append(parent)
        if made:
            sql = (
                "UPDATE character SET head = ?, tip = ?, changed = ?, name = coalesce(nullif(?, ''), name) WHERE id = ?"
            )
            db.execute(sql, (parent, parent, now, steps[-1].called, character))
        return made

    def _put_step(self, db: sqlite3.Connection, character: int, parent: int | None, number: int, s: Kept) -> int:
        snapshot = self._put_snapshot(db, s.document, s.arrays) if s.document is not None else None
        cursor = db.execute(
            "INSERT INTO step(character, parent, number, name, params, sentence, snapshot, made, seconds) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (character, parent, number, s.name, json.dumps(s.params), s.sentence, snapshot, s.made, s.seconds),
        )
        return int(cursor.lastrowid or 0)

    @staticmethod
    def _put_snapshot(db: sqlite3.Connection, document: str, arrays: dict[str, str]) -> str:
        listed = json.dumps(arrays, sort_keys=True)
        digest = _snapshot_hash(document, listed)
        db.execute(
            "INSERT OR IGNORE INTO snapshot VALUES (?, ?, ?)", (digest, zlib.compress(document.encode(), 1), listed)
        )
        return digest

    def snapshot_hash(self, step: int) -> str | None:
        with self._open() as db:
            row = db.execute("SELECT snapshot FROM step WHERE id = ?", (step,)).fetchone()
            return row[0] if row else None

    def is_as_it_was(self, step: int, document: str, arrays: dict[str, str]) -> bool:
        """Whether a state that was made again is the one whose snapshot was dropped; true where that isn't known."""
        with self._open() as db:
            row = db.execute("SELECT hash FROM dropped WHERE step = ?", (step,)).fetchone()
        return row is None or row[0] == _snapshot_hash(document, json.dumps(arrays, sort_keys=True))

    def snapshot(self, digest: str) -> tuple[str, dict[str, str]]:
        """The document and the hashes of its arrays."""
        with self._open() as db:
            row = db.execute("SELECT document, arrays FROM snapshot WHERE hash = ?", (digest,)).fetchone()
        if row is None:
            raise NotFound("That state is no longer kept.", "", "Go to a later step.")
        try:
            document = zlib.decompress(row[0]).decode()
        except (zlib.error, UnicodeDecodeError):
            raise damaged(self.path, "a state can't be unpacked") from None
        if _snapshot_hash(document, row[1]) != digest:
            raise damaged(self.path, "a state isn't what was stored")
        return document, json.loads(row[1])

    def array(self, digest: str) -> np.ndarray:
        with self._open() as db:
            row = db.execute("SELECT dtype, shape, data FROM blob WHERE hash = ?", (digest,)).fetchone()
        if row is None:
            raise NotFound("An array is missing from the store.", digest, "Restore the store from a copy.")
        try:
            array = np.frombuffer(row[2], np.dtype(row[0])).reshape(json.loads(row[1]))
        except (TypeError, ValueError):
            raise damaged(self.path, f"the array {digest} can't be read") from None
        if content_hash(array) != digest:
            raise damaged(self.path, f"the array {digest} isn't what was stored")
        return array

    def ledger(self, character: int) -> list[LedgerRow]:
        """The line one stands on, first step first; steps after the present one are marked undone."""
        with self._open() as db:
            head, tip, _, _ = self._row(db, character)
            steps = {
                r[0]: r
                for r in db.execute(
                    "SELECT id, parent, number, name, params, sentence, made, seconds, snapshot FROM step WHERE character = ?",
                    (character,),
                )
            }
        line, at = [], tip
        while at is not None:
            line.append(steps[at])
            at = steps[at][1]
        number = steps[head][2]
        return [
            LedgerRow(r[0], r[2], r[3], json.loads(r[4]), r[5], r[6], r[7], r[2] > number, r[8] is not None)
            for r in reversed(line)
        ]

    def back(self, character: int, expected: Position | None) -> Position:
        """Undo one thing: the newest pose entry made on the present step, or else the step itself."""
        with self._write() as db:
            head, _, pose, _ = self._row(db, character)
            self._expect_both(head, pose, expected)
            entry = db.execute("SELECT parent, step FROM pose WHERE id = ?", (pose,)).fetchone()
            if entry is not None and entry[1] == head:
                db.execute("UPDATE character SET pose = ? WHERE id = ?", (entry[0], character))
                return Position(head, entry[0])
            parent = db.execute("SELECT parent FROM step WHERE id = ?", (head,)).fetchone()[0]
            if parent is None:
                raise Conflict("There is nothing left to undo.")
            db.execute("UPDATE character SET head = ? WHERE id = ?", (parent, character))
            return Position(parent, pose)

    def forth(self, character: int, expected: Position | None) -> Position:
        """Redo one thing."""
        with self._write() as db:
            head, tip, pose, pose_tip = self._row(db, character)
            self._expect_both(head, pose, expected)
            later = self._towards(db, "pose", pose_tip, pose)
            if later is not None:
                step = db.execute("SELECT step FROM pose WHERE id = ?", (later,)).fetchone()[0]
                if step == head:
                    db.execute("UPDATE character SET pose = ? WHERE id = ?", (later, character))
                    return Position(head, later)
            later = self._towards(db, "step", tip, head)
            if later is None:
                raise Conflict("There is nothing left to redo.")
            db.execute("UPDATE character SET head = ? WHERE id = ?", (later, character))
            return Position(later, pose)

    def _expect_both(self, head: int, pose: int, expected: Position | None) -> None:
        if expected is not None:
            self.expect(head, expected.step)
            self.expect(pose, expected.pose)

    def can_redo(self, character: int) -> bool:
        with self._open() as db:
            head, tip, pose, pose_tip = self._row(db, character)
            later = self._towards(db, "pose", pose_tip, pose)
            row = db.execute("SELECT step FROM pose WHERE id = ?", (later,)).fetchone()
            return (row is not None and row[0] == head) or self._towards(db, "step", tip, head) is not None

    @staticmethod
    def _towards(db: sqlite3.Connection, table: str, tip: int, here: int) -> int | None:
        """The entry after `here` on the way to `tip`."""
        at: int | None = tip
        while at and at != here:
            parent = db.execute(f"SELECT parent FROM {table} WHERE id = ?", (at,)).fetchone()
            if parent is None:
                return None
            if (parent[0] or 0) == here:
                return at
            at = parent[0]
        return None

    def go(self, character: int, expected: int | None, step: int) -> Position:
        """Stand on any step of the character, a milestone's too."""
        with self._write() as db:
            head, tip, pose, _ = self._row(db, character)
            self.expect(head, expected)
            if db.execute("SELECT 1 FROM step WHERE id = ? AND character = ?", (step, character)).fetchone() is None:
                raise NotFound("There is no such step.", f"number {step}")
            on_line = step == tip or self._towards(db, "step", tip, step) is not None
            db.execute(
                "UPDATE character SET head = ?, tip = ? WHERE id = ?", (step, tip if on_line else step, character)
            )
            return Position(step, pose)

    # -- milestones ----------------------------------------------------------------------------------------------
    def add_milestone(self, character: int, name: str) -> Milestone:
        with self._write() as db:
            head, now = self._row(db, character)[0], time.time()
            return Milestone(self._put_milestone(db, character, head, name, now), head, name, now)

    @staticmethod
    def _put_milestone(db: sqlite3.Connection, character: int, step: int, name: str, made: float) -> int:
        row = (character, step, name, made)
        cursor = db.execute("INSERT INTO milestone(character, step, name, made) VALUES (?, ?, ?, ?)", row)
        return int(cursor.lastrowid or 0)

    def milestones(self, character: int) -> list[Milestone]:
        with self._open() as db:
            rows = db.execute(
                "SELECT id, step, name, made FROM milestone WHERE character = ? ORDER BY id", (character,)
            )
            return [Milestone(*r) for r in rows]

    # -- plans of one's own --------------------------------------------------------------------------------------
    def add_plan(self, name: str, body: str) -> int:
        with self._write() as db:
            cursor = db.execute("INSERT INTO plan(name, body, made) VALUES (?, ?, ?)", (name, body, time.time()))
            return int(cursor.lastrowid or 0)

    def plans(self) -> list[OwnPlanRow]:
        with self._open() as db:
            return [OwnPlanRow(*r) for r in db.execute("SELECT id, name, body, made FROM plan ORDER BY id")]

    def delete_plan(self, plan: int) -> None:
        with self._write() as db:
            if not db.execute("DELETE FROM plan WHERE id = ?", (plan,)).rowcount:
                raise NotFound("There is no such plan.", f"number {plan}")

    # -- poses ---------------------------------------------------------------------------------------------------
    def append_pose(self, character: int, expected: Position | None, values: dict[str, Any], label: str) -> Position:
        with self._write() as db:
            head, _, pose, _ = self._row(db, character)
            self._expect_both(head, pose, expected)
            return Position(head, self._put_pose(db, character, pose, head, values, label))

    @staticmethod
    def _put_pose(
        db: sqlite3.Connection, character: int, parent: int, step: int | None, values: dict[str, Any], label: str
    ) -> int:  # fmt: skip
        cursor = db.execute(
            "INSERT INTO pose(character, parent, step, vals, label, made) VALUES (?, ?, ?, ?, ?, ?)",
            (character, parent, step, json.dumps(values), label, time.time()),
        )
        made = int(cursor.lastrowid or 0)
        db.execute("UPDATE character SET pose = ?, pose_tip = ? WHERE id = ?", (made, made, character))
        return made

    def pose(self, character: int) -> tuple[dict[str, Any], str, int]:
        """The values of the pose one stands on, what was done last, and the step it was posed at; rest is ({}, "", 0)."""
        with self._open() as db:
            pose = self._row(db, character)[2]
            row = db.execute("SELECT vals, label, step FROM pose WHERE id = ?", (pose,)).fetchone()
            return (json.loads(row[0]), row[1], row[2]) if row else ({}, "", 0)

    # -- results, size -------------------------------------------------------------------------------------------
    def put_result(self, snapshot: str, kind: str, body: bytes) -> None:
        with self._write() as db:
            db.execute("INSERT OR REPLACE INTO result VALUES (?, ?, ?)", (snapshot, kind, body))

    def result(self, snapshot: str, kind: str) -> bytes | None:
        """What was read from a snapshot, if it was."""
        with self._open() as db:
            row = db.execute("SELECT body FROM result WHERE snapshot = ? AND kind = ?", (snapshot, kind)).fetchone()
        return row[0] if row else None

    def newest_result(self, character: int, kind: str) -> tuple[int, bytes] | None:
        """The newest result on the line up to where one stands: the step it is of, and its body."""
        sql = (
            "WITH RECURSIVE line(id, parent, number, snapshot) AS (SELECT s.id, s.parent, s.number, s.snapshot FROM step s "
            "JOIN character c ON c.head = s.id WHERE c.id = ? UNION ALL SELECT s.id, s.parent, s.number, s.snapshot "
            "FROM step s JOIN line ON s.id = line.parent) "
            "SELECT line.id, r.body FROM line JOIN result r ON r.snapshot = line.snapshot AND r.kind = ? "
            "ORDER BY line.number DESC LIMIT 1"
        )
        with self._open() as db:
            found: tuple[int, bytes] | None = db.execute(sql, (character, kind)).fetchone()
            return found

    def bytes_used(self) -> int:
        """The store's size on disk; sqlite may take its side file away at any moment."""
        total = 0
        for file in (self.path, self.path.with_name(self.path.name + "-wal")):
            try:
                total += file.stat().st_size
            except OSError:
                pass
        return total

    def compact(self, keep: int = 10) -> tuple[int, int]:
        """Drop lines left aside and old snapshots.  Returns the bytes used before and after.

        Kept: every step that leads to a present step, to what can be redone, or to a milestone; the snapshots of
        each line's first step, of milestones, of the present step and the newest `keep`.  Dropped snapshots come
        back by replaying.
        """
        before = self.bytes_used()
        with self._write() as db:
            lines: set[int] = set()
            held: set[int] = set()
            for character, head, tip in db.execute("SELECT id, head, tip FROM character").fetchall():
                marks = [r[0] for r in db.execute("SELECT step FROM milestone WHERE character = ?", (character,))]
                held |= {head, *marks}
                for start in [tip, head, *marks]:
                    at, n = start, 0
                    while at is not None:
                        lines.add(at)
                        if n < keep and start == tip:
                            held.add(at)
                        n += 1
                        parent = db.execute("SELECT parent FROM step WHERE id = ?", (at,)).fetchone()[0]
                        if parent is None:
                            held.add(at)
                        at = parent
            every = [r[0] for r in db.execute("SELECT id FROM step")]
            db.executemany("DELETE FROM step WHERE id = ?", [(i,) for i in every if i not in lines])
            gone = [(i,) for i in every if i not in held and i in lines]
            db.executemany(
                "INSERT OR REPLACE INTO dropped SELECT id, snapshot FROM step WHERE id = ? AND snapshot IS NOT NULL",
                gone,
            )
            db.executemany("UPDATE step SET snapshot = NULL WHERE id = ?", gone)
            db.execute("DELETE FROM dropped WHERE step NOT IN (SELECT id FROM step)")
            db.execute("DELETE FROM snapshot WHERE hash NOT IN (SELECT snapshot FROM step WHERE snapshot IS NOT NULL)")
            db.execute("DELETE FROM result WHERE snapshot NOT IN (SELECT hash FROM snapshot)")
            used = {h for (text,) in db.execute("SELECT arrays FROM snapshot") for h in json.loads(text).values()}
            for (text,) in db.execute("SELECT params FROM step").fetchall():
                used |= set(array_names(json.loads(text)))
            blobs = [r[0] for r in db.execute("SELECT hash FROM blob")]
            db.executemany("DELETE FROM blob WHERE hash = ?", [(b,) for b in blobs if b not in used])
        with self._open() as db:
            db.execute("VACUUM")
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return before, self.bytes_used()


def _snapshot_hash(document: str, arrays: str) -> str:
    return hashlib.blake2b((document + arrays).encode(), digest_size=16).hexdigest()


def array_names(value: Any) -> Iterator[str]:
    """The hashes of all {"array": hash} in a JSON value."""
    if isinstance(value, dict):
        if set(value) == {"array"} and isinstance(value["array"], str):
            yield value["array"]
        else:
            for v in value.values():
                yield from array_names(v)
    elif isinstance(value, list):
        for v in value:
            yield from array_names(v)


def migrations(version: int) -> list[tuple[int, str]]:
    """Scripts newer than `version`, in order: files named NNN_what.sql."""
    if version == 0:
        return []
    found = sorted((HERE / "migrations").glob("[0-9][0-9][0-9]_*.sql"))
    numbered = [(int(p.name[:3]), p) for p in found]
    return [(n, p.read_text("utf-8")) for n, p in numbered if n > version]
