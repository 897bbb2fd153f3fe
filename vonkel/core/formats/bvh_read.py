"""Reading BVH: the hierarchy word by word, the motion row by row; what is odd in it is told, what is broken refused with its line."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..errors import BadFile, TooLarge
from ..motion.capture import Capture, Skeleton, axes_of
from ..tolerances import MAX_CLIP_VALUES
from .reading import each_once, on_time, reading

MOST_JOINTS = 2000
FARTHEST = 1e9  # of a file's unit
Word = tuple[str, int]  # and the line that it stands on


@dataclass
class _Tree:
    names: list[str] = field(default_factory=list)
    parents: list[int] = field(default_factory=list)
    offsets: list[list[float]] = field(default_factory=list)
    channels: list[tuple[tuple[str, int], ...]] = field(default_factory=list)
    ends: list[list[float]] = field(default_factory=list)
    end_of: list[int] = field(default_factory=list)


def read(name: str, data: bytes) -> Capture:
    """A file's skeleton and its motion.  Raises BadFile, TooLarge."""
    with reading(name, "motion"):
        text = _text(name, data)
        lines = text.splitlines()
        start = next((i for i, line in enumerate(lines) if line.strip().upper() == "MOTION"), None)
        if start is None:
            raise BadFile("It has no motion: no line says MOTION.", name, "Export it again with its frames.")
        words = [
            (w, i + 1)
            for i, line in enumerate(lines[:start])
            for w in line.replace("{", " { ").replace("}", " } ").split()
        ]
        notes: list[str] = []
        skeleton = _hierarchy(name, words, notes)
        rows, rate = _motion(name, lines, start + 1, skeleton, notes)
        return Capture(skeleton, rows, rate, tuple(notes))


def _text(name: str, data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    if b"\0" in data[:4096]:
        raise BadFile(f"{name} is not text, so it is no BVH.", name, "Check the file's ending.")
    return data.decode("utf-8-sig", "replace")


class _Words:
    def __init__(self, name: str, words: list[Word]) -> None:
        self.name, self.words, self.at = name, words, 0

    def next(self) -> str:
        if self.at >= len(self.words):
            raise BadFile("The hierarchy breaks off.", self.name, "Export it again.")
        self.at += 1
        return self.words[self.at - 1][0]

    @property
    def line(self) -> int:
        return self.words[min(max(self.at - 1, 0), len(self.words) - 1)][1] if self.words else 0

    def peek(self) -> str:
        return self.words[self.at][0] if self.at < len(self.words) else ""

    def numbers(self, count: int) -> list[float]:
        out = []
        for _ in range(count):
            word = self.next()
            try:
                value = float(word)
            except ValueError:
                raise self.wrong(f"“{word[:40]}” is no number") from None
            if not abs(value) < FARTHEST:
                raise self.wrong(f"“{word[:40]}” is too far off")
            out.append(value)
        return out

    def wrong(self, what: str) -> BadFile:
        return BadFile(f"Line {self.line} can't be read: {what}.", f"{self.name}, line {self.line}", "Mend that line.")

    def expect(self, wanted: str) -> None:
        found = self.next()
        if found.upper() != wanted:
            raise self.wrong(f"“{wanted}” was expected, not “{found[:40]}”")


def _hierarchy(name: str, words: list[Word], notes: list[str]) -> Skeleton:
    w, tree = _Words(name, words), _Tree()
    w.expect("HIERARCHY")
    w.expect("ROOT")
    stack: list[int] = []
    _joint(w, tree, -1, stack)
    while stack:
        if not len(tree.names) % 64:
            on_time()
        word = w.next().upper()
        if word == "}":
            stack.pop()
        elif word == "JOINT":
            _joint(w, tree, stack[-1], stack)
        elif word == "END":
            _end(w, tree, stack[-1])
        else:
            raise w.wrong(f"“{word[:40]}” is none of JOINT, End Site and }}")
    if w.peek().upper() == "ROOT":
        raise w.wrong("a second skeleton begins, whose numbers stand in the same rows")
    if len(set(tree.names)) < len(tree.names):
        notes.append("Several joints bear one name; the later ones are numbered.")
    return Skeleton(
        tuple(each_once(tree.names)), tuple(tree.parents), np.array(tree.offsets).reshape(-1, 3), tuple(tree.channels),
        np.array(tree.ends).reshape(-1, 3), tuple(tree.end_of),
    )  # fmt: skip


def _joint(w: _Words, tree: _Tree, parent: int, stack: list[int]) -> None:
    if len(tree.names) >= MOST_JOINTS:
        raise TooLarge(f"It has more than {MOST_JOINTS:,} joints.", w.name, "Bring in a simpler skeleton.")
    own = []
    while w.peek() not in ("{", ""):  # a name may hold blanks
        own.append(w.next())
    w.expect("{")
    stack.append(len(tree.names))
    tree.names.append(" ".join(own)[:80] or "joint")
    tree.parents.append(parent)
    w.expect("OFFSET")
    tree.offsets.append(w.numbers(3))
    channels: tuple[tuple[str, int], ...] = ()
    if w.peek().upper() == "CHANNELS":
        w.next()
        count = int(w.numbers(1)[0])
        if not 0 <= count <= 9:
            raise w.wrong(f"a joint has {count} channels")
        said = [w.next() for _ in range(count)]
        found = axes_of(said)
        if found is None or len(set(found)) < len(found):
            raise w.wrong(f"its channels are “{' '.join(said)[:80]}”")
        channels = found
    tree.channels.append(channels)


def _end(w: _Words, tree: _Tree, joint: int) -> None:
    while w.peek() not in ("{", ""):
        w.next()
    w.expect("{")
    w.expect("OFFSET")
    tree.ends.append(w.numbers(3))
    tree.end_of.append(joint)
    w.expect("}")


def _motion(name: str, lines: list[str], start: int, skeleton: Skeleton, notes: list[str]) -> tuple[np.ndarray, float]:
    """The frames' numbers and the rate.  Blank lines are passed over; a row of another length is refused with its line."""
    said, pace, at = -1, 0.0, start
    while at < len(lines):
        head, _, value = lines[at].partition(":")
        key = " ".join(head.split()).lower()
        if key == "frames":
            said = int(_figure(name, value, at))
        elif key == "frame time":
            pace = _figure(name, value, at)
        elif lines[at].strip():
            break
        at += 1
    if not pace > 0:
        notes.append("It doesn't say how long a frame lasts; 30 a second are taken.")
        pace = 1 / 30
    if max(said, 0) * skeleton.width > MAX_CLIP_VALUES:
        raise TooLarge(f"It has {said:,} frames of {skeleton.width} numbers.", name, "Cut it into shorter motions.")
    rows, width = [], skeleton.width
    for i in range(at, len(lines)):
        if not lines[i].strip():
            continue
        if not i % 512:
            on_time()
        try:
            row = [float(word) for word in lines[i].split()]
        except ValueError:
            raise BadFile(
                f"Line {i + 1} holds what is no number.", f"{name}, line {i + 1}", "Mend that line."
            ) from None
        if len(row) != width:
            raise BadFile(
                f"Line {i + 1} holds {len(row)} numbers, and the skeleton has {width} channels.", f"{name}, line {i + 1}",
                "Export it again; hierarchy and frames don't belong together.",
            )  # fmt: skip
        rows.append(row)
        if len(rows) * width > MAX_CLIP_VALUES:
            raise TooLarge("It has too many frames.", name, "Cut it into shorter motions.")
    if not rows:
        raise BadFile("It has no frames.", name, "Export it again with its motion.")
    if said >= 0 and said != len(rows):
        notes.append(f"It says {said:,} frames and has {len(rows):,}; these are taken.")
    out = np.array(rows)
    if not np.isfinite(out).all() or np.abs(out).max() > FARTHEST:
        raise BadFile("Some of its numbers are not finite, or far too large.", name, "Export it again.")
    return out, 1.0 / pace


def _figure(name: str, text: str, at: int) -> float:
    try:
        value = float(text.strip().replace(",", "."))
    except ValueError:
        value = -1.0
    if not 0 <= value < 1e7:
        raise BadFile(f"Line {at + 1} says “{text.strip()[:40]}”.", f"{name}, line {at + 1}", "Mend that line.")
    return value
