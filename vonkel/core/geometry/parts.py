"""Bringing more parts into a character; the colours of parts."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..character import Character, Part, unique_name
from ..character.words import PALETTE, role_of
from ..errors import BadParameters, TooLarge
from ..tolerances import MAX_PARTS, MAX_POINTS


def with_parts(
    character: Character, names: tuple[str, ...], points: np.ndarray, point_part: np.ndarray,
    faces: tuple[np.ndarray, np.ndarray], lines: tuple[np.ndarray, np.ndarray],
) -> Character:  # fmt: skip
    """Parts set behind those there are.  `points` (n, 3) metres; `point_part` (n,) rising, into `names`;

    faces: starts (f + 1,) and corners; lines: starts (l + 1,) and points; all numbered from the first new point, each
    face and line within one part and in the parts' order.  New points follow no joint until the skin is bound again;
    the first holder of skin carries them meanwhile.
    """
    n, old = len(points), len(character.points)
    starts, corners = faces
    line_starts, line_points = lines
    ok = (
        points.ndim == 2 and points.shape[1] == 3 and point_part.shape == (n,) and n
        and (np.diff(point_part) >= 0).all() and point_part[0] >= 0 and point_part[-1] < len(names)
        and _runs(starts, corners, n) and _runs(line_starts, line_points, n)
    )  # fmt: skip
    if not ok:
        raise BadParameters(
            "The parts' points, faces and lines don't fit together.", character.name, "Export it again."
        )
    if old + n > MAX_POINTS or len(character.parts) + len(names) > MAX_PARTS:
        raise TooLarge("The character would become too large.", character.name, "Bring in a lighter mesh.")
    c = character.arrays
    old_faces = len(c["face_starts"]) - 1
    old_lines = len(c["line_starts"]) - 1 if "line_starts" in c else 0
    face_part = point_part[corners[starts[:-1]]] if len(starts) > 1 else np.zeros(0, np.int64)
    line_part = point_part[line_points[line_starts[:-1]]] if len(line_starts) > 1 else np.zeros(0, np.int64)
    if (np.diff(face_part) < 0).any() or (np.diff(line_part) < 0).any():
        raise BadParameters("Faces and lines must come in the order of their parts.", character.name)
    parts = list(character.parts)
    taken = {p.name for p in parts}
    for i, wanted in enumerate(names):
        name = unique_name(wanted, taken)
        taken.add(name)
        run = _within(face_part, i, old_faces)
        parts.append(
            Part(
                name=name, role=role_of(name) if run[0] < run[1] else "line",
                points=_within(point_part, i, old), faces=run, lines=_within(line_part, i, old_lines),
                colour=PALETTE[(len(parts)) % len(PALETTE)],
            )
        )  # fmt: skip
    arrays: dict[str, np.ndarray | None] = {
        "points": np.concatenate([character.points, points.astype(float)]),
        "face_starts": np.concatenate([c["face_starts"], c["face_starts"][-1] + starts[1:]]).astype(np.int32),
        "face_corners": np.concatenate([c["face_corners"], corners + old]).astype(np.int32),
    }
    if len(line_starts) > 1 or old_lines:
        before, run_before = (c["line_starts"], c["line_points"]) if old_lines else (np.zeros(1, int), np.zeros(0, int))
        arrays["line_starts"] = np.concatenate([before, before[-1] + line_starts[1:]]).astype(np.int32)
        arrays["line_points"] = np.concatenate([run_before, line_points + old]).astype(np.int32)
    if "colours" in c:
        own = own_colours(parts[len(character.parts) :])
        arrays["colours"] = np.concatenate([c["colours"], own[point_part]])
    if "uvs" in c:
        arrays["uvs"] = np.concatenate([c["uvs"], np.zeros((len(corners), 2), np.float32)])
    if "face_groups" in c:
        arrays["face_groups"] = np.concatenate([c["face_groups"], np.zeros(len(starts) - 1, np.uint16)])
    if character.skin:
        k = c["skin/joints"].shape[1]
        weights = np.zeros((n, k), c["skin/weights"].dtype)
        weights[:, 0] = 1
        arrays["skin/joints"] = np.concatenate([c["skin/joints"], np.zeros((n, k), c["skin/joints"].dtype)])
        arrays["skin/weights"] = np.concatenate([c["skin/weights"], weights])
        if "skin/mix" in c:
            arrays["skin/mix"] = np.concatenate([c["skin/mix"], np.ones(n, np.float32)])
    return character.with_(parts=tuple(parts), arrays=arrays)


def own_colours(parts: Sequence[Part]) -> np.ndarray:
    """(p, 3) uint8 sRGB: each part's own colour."""
    return np.array([list(bytes.fromhex(p.colour[1:])) for p in parts], np.uint8).reshape(-1, 3)


def point_colours(character: Character) -> np.ndarray:
    """(n, 3) uint8 sRGB: the mesh's own colours, or those of its parts."""
    given = character.arrays.get("colours")
    return own_colours(character.parts)[character.part_numbers("points")] if given is None else given


def _runs(starts: np.ndarray, flat: np.ndarray, count: int) -> bool:
    """Whether compressed rows are in order and name points there are."""
    if starts.ndim != 1 or flat.ndim != 1 or not len(starts) or starts[0] != 0 or starts[-1] != len(flat):
        return False
    return bool((np.diff(starts) > 1).all() and (not len(flat) or flat.min() >= 0 and flat.max() < count))


def _within(rising: np.ndarray, i: int, offset: int) -> tuple[int, int]:
    return int(np.searchsorted(rising, i, "left")) + offset, int(np.searchsorted(rising, i, "right")) + offset
