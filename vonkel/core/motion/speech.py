"""Speech: sounds in time become keys of a face's visemes, or of its mouth pad.

Visemes go by the numbers of the table of ISO/IEC 14496-2 (MPEG-4, facial animation; from memory), as the poses of a face are named.
Sounds may be written as that table has them, or in the letters of ARPAbet (common practice of pronouncing dictionaries).
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..character import Character, Clip, Inputs, Ref, Track, unique_name
from ..character.boards import ACROSS, UP
from ..errors import BadFile, BadParameters, StepRefused
from .keyed import keyable, rest_of, with_keys
from .keys import HELD, SMOOTH, ordered

SILENT = 0
WRITTEN: dict[int, str] = {
    0: "sil pau sp _ - h hh", 1: "p b m", 2: "f v", 3: "T D th dh", 4: "t d", 5: "k g ng N", 6: "tS dZ S Z ch jh sh zh", 7: "s z", 8: "n l",
    9: "r er", 10: "A: A a aa ah ax", 11: "e eh ae ey", 12: "I i ih iy y j ay", 13: "Q O o ao ow aw oy", 14: "U u uw uh w",
}  # fmt: skip
OF_SOUND = {s: n for n, sounds in WRITTEN.items() for s in sounds.split()}
MOST = 20_000  # sounds


@dataclass(frozen=True)
class Sound:
    """A sound from `start` to `end`, seconds, and the viseme that shows it (0: none)."""

    start: float
    end: float
    sound: str
    viseme: int


def viseme_of(sound: str) -> int:
    """The number of the viseme of a sound; digits of stress are passed over.  Raises BadParameters for one that isn't known."""
    plain = sound.strip().rstrip("0123456789")
    for word in (plain, plain.lower()):
        if word in OF_SOUND:
            return OF_SOUND[word]
    if sound.strip().isdigit() and int(sound) <= 14:  # a viseme by its number
        return int(sound)
    raise BadParameters(
        f"“{sound[:20]}” is no sound that is known.",
        "speech",
        f"There are: {' '.join(w for n, w in WRITTEN.items() if n)}.",
    )


def typed(text: str, start: float, each: float) -> list[Sound]:
    """Sounds typed with blanks between them, each as long; a comma or a full stop is a silence.  Raises BadParameters."""
    words = text.replace(",", " sil ").replace(".", " sil sil ").split()
    return [Sound(start + i * each, start + (i + 1) * each, w, viseme_of(w)) for i, w in enumerate(words[:MOST])]


def timed(name: str, data: bytes) -> list[Sound]:
    """Sounds with their times from a file: rows of start, end, sound, or start and sound; or JSON of such.  Raises BadFile."""
    text = data.decode("utf-8-sig", "replace")
    try:
        rows: list[list[str]] = (
            [[str(v) for v in (r.values() if isinstance(r, dict) else r)] for r in json.loads(text)]
            if name.lower().endswith(".json")
            else [r for r in csv.reader(io.StringIO(text.replace("\t", ",").replace(";", ",")))]
        )
    except (ValueError, AttributeError, TypeError, csv.Error):
        raise BadFile("The sounds can't be read.", name, "Write rows of start, end, sound.") from None
    if rows and len(rows[0]) == 1 and " " in rows[0][0]:
        rows = [r[0].split() for r in rows if r]
    told: list[tuple[float, float | None, str]] = []
    for i, row in enumerate(rows[:MOST]):
        cells = [c.strip() for c in row if c.strip()]
        if not cells or (i == 0 and not _number(cells[0])):  # a head
            continue
        if len(cells) < 2 or not _number(cells[0]) or (len(cells) > 2 and not _number(cells[1])):
            raise BadFile(
                f"Row {i + 1} says “{','.join(row)[:40]}”.", f"{name}, row {i + 1}", "Write start, end, sound."
            )
        told.append((float(cells[0]), float(cells[1]) if len(cells) > 2 else None, cells[-1]))
    if not told:
        raise BadFile("It holds no sounds.", name, "Write rows of start, end, sound.")
    out = []
    for i, (a, b, sound) in enumerate(told):
        end = b if b is not None else told[i + 1][0] if i + 1 < len(told) else a + 0.1
        if not 0 <= a < end < 36_000:
            raise BadFile(
                f"“{sound[:20]}” ends at {end:g} and begins at {a:g}.", name, "Let each sound end after it begins."
            )
        out.append(Sound(a, end, sound, viseme_of(sound)))
    return sorted(out, key=lambda s: s.start)


def _number(text: str) -> bool:
    try:
        return bool(np.isfinite(float(text)))
    except ValueError:
        return False


def poses_of(character: Character) -> dict[int, Inputs]:
    """Viseme → what shows it: the saved poses called “viseme 1 …”.  Raises StepRefused where there is none."""
    out: dict[int, Inputs] = {SILENT: {}}
    for p in character.poses:
        words = p.name.split()
        if len(words) > 1 and words[0] == "viseme" and words[1].isdigit():
            out.setdefault(int(words[1]), p.values)
    if len(out) == 1:
        raise StepRefused(
            "No pose shows a viseme.", character.name, "Make the face's controls at the Face station first."
        )
    return out


def pad_places(character: Character, board: str) -> dict[int, Inputs]:
    """Viseme → the place of the mouth pad's bead that comes nearest to it: as wide and as open as the viseme is.  Raises StepRefused."""
    if all(b.name != board for b in character.boards):
        raise StepRefused(f"There is no board “{board}”.", character.name, "Make the face's controls first.")
    shape = {
        10: (0, 1),
        11: (0.7, 0.45),
        12: (0.9, 0.1),
        13: (-0.7, 0.6),
        14: (-1, 0),
        6: (-0.6, 0.1),
        9: (-0.5, 0.1),
        7: (0.6, 0),
        5: (0, 0.2),
        8: (0, 0.1),
        3: (0, 0.12),
        4: (0, 0.05),
    }
    thing = str(Ref.board(board))
    out = {}
    for n in WRITTEN:
        wide, opened = shape.get(n, (0, 0))
        out[n] = {thing: {ACROSS: float(wide), UP: float(opened if opened >= 0.15 or not wide else -abs(wide))}}
    return out


def spoken(
    character: Character, name: str, sounds: Sequence[Sound], poses: dict[int, Inputs], rate: float, blend: float = 0.08, held: bool = False,
    strength: float = 1.0,
) -> Character:  # fmt: skip
    """The character with a keyed motion in which its face shows these sounds.

    From one sound to the next it goes in `blend` seconds, or half the shorter one, about the moment where one ends and the other
    begins, so that each is the stronger of the two from its first frame to its last.  held: the face jumps, as a drawn one does.
    """
    if not sounds:
        raise BadParameters("There is nothing to say.", name, "Type some sounds.")
    runs = _runs(sounds)
    used = {n: keyable(character, poses.get(n, {})) for n in {s.viseme for s in runs}}
    channels = list(dict.fromkeys(c for given in used.values() for c in given))
    if not channels:
        raise StepRefused("None of these sounds moves this face.", name, "Make the face's shapes and controls first.")
    tracks = tuple(Track(thing=t, channel=c) for t, c in channels)
    rests = [rest_of(character, t) for t in tracks]
    rows = []
    for i, s in enumerate(runs):
        ahead = min(blend, 0.5 * (s.end - s.start), 0.5 * (runs[i - 1].end - runs[i - 1].start)) if i else 0.0
        behind = (
            min(blend, 0.5 * (s.end - s.start), 0.5 * (runs[i + 1].end - runs[i + 1].start))
            if i + 1 < len(runs)
            else 0.0
        )
        frames = (
            [round(s.start * rate)] if held else sorted({(s.start + 0.5 * ahead) * rate, (s.end - 0.5 * behind) * rate})
        )
        for k, (channel, rest) in enumerate(zip(channels, rests, strict=True)):
            value = rest + strength * (used[s.viseme].get(channel, rest) - rest)
            rows += [(k, f, value, HELD if held else SMOOTH, 0.0, 0.0) for f in frames]
    end = int(np.ceil(max(s.end for s in runs) * rate))
    clip = Clip(
        name=unique_name(name, {c.name for c in character.clips}), rate=rate, tracks=tracks, keyed=True, end=max(end, 1)
    )
    keys = ordered(np.array(rows))
    return with_keys(character.with_(clips=(*character.clips, clip), arrays={clip.array: keys}), clip, keys)


def _runs(sounds: Sequence[Sound]) -> list[Sound]:
    """Sounds without gaps: a silence where nothing is said; one after another that look alike are one."""
    out: list[Sound] = []
    at = 0.0
    for s in sorted(sounds, key=lambda x: x.start):
        start = max(s.start, at)
        if s.end <= start:
            continue
        if start > at + 1e-6:
            out.append(Sound(at, start, "sil", SILENT))
        out.append(Sound(start, s.end, s.sound, s.viseme))
        at = s.end
    out.append(Sound(at, at + 0.15, "sil", SILENT))
    merged = [out[0]]
    for s in out[1:]:
        if s.viseme == merged[-1].viseme:
            merged[-1] = Sound(merged[-1].start, s.end, merged[-1].sound, s.viseme)
        else:
            merged.append(s)
    return merged
