"""Pictures of a board, drawn from the character, and what a bead passes over."""

from __future__ import annotations

import hashlib

import numpy as np

from ..core.character import Board, BoardPicture, Character
from ..core.character.refs import SHAPES
from ..core.errors import NotFound
from ..core.geometry.parts import point_colours
from ..core.geometry.topology import point_normals, topology_of
from ..core.motion.jumps import flashed
from ..core.recent import Recent
from ..core.rig import compile_rig
from ..core.rig.blends import comes_from
from ..core.skin import Deformer
from ..core.trials.picture import picture, png

SIDE = 168  # pixels
MARGIN = 1.15
VAGUE = 0.15  # of a mean normal's length: what faces all round faces nowhere
AHEAD, ABOVE = np.radians(25.0), np.radians(40.0)  # within these it is looked at straight from ahead
_pictures: Recent[str, bytes] = Recent(256)


def picture_seal(character: Character, board: Board, shown: BoardPicture) -> str:
    """Hash of all that a picture is drawn from."""
    arrays = character.arrays
    if shown.own:
        return arrays.hash_of(f"board/{board.name}/{shown.key}")
    on = set(shown.shapes)
    on |= {s.name for s in character.shapes if on.intersection(comes_from(s))}
    box = {n for q in board.pictures for n in q.shapes} if not board.region else set()
    names = ["points", "face_corners", "colours"] + [
        f"shape/{n}/{k}" for n in sorted(on | box) for k in ("points", "moves")
    ]
    names += [f"region/{board.region}/points"]
    body = [arrays.hash_of(n) if n in arrays else "" for n in names]
    body += [repr(sorted(shown.shapes.items())), *(p.model_dump_json() for p in character.parts)]
    if shown.pose:
        body += [
            repr(shown.pose),
            character.seal("joints", "kits", "controls", "rules", "skin", "skin/joints", "skin/weights"),
        ]
    body += [s.model_dump_json() for s in character.shapes if s.name in on]
    return hashlib.blake2b("\n".join(body).encode(), digest_size=12).hexdigest()


def board_picture(character: Character, board: str, key: str) -> bytes:
    """A picture of a board as the bytes of a file.  Raises NotFound."""
    found = character.board(board)
    shown = next((q for q in found.pictures if q.key == key), None)
    if shown is None:
        raise NotFound(f"The board has no picture “{key}”.", board, "Reload the page.")
    if shown.own:
        return character.arrays[f"board/{board}/{key}"].tobytes()
    return _pictures.get(picture_seal(character, found, shown), lambda: _drawn(character, found, shown))


def _drawn(character: Character, board: Board, shown: BoardPicture) -> bytes:
    pose = compile_rig(character).evaluate({**shown.pose, SHAPES: dict(shown.shapes)})
    deformer = Deformer(character)
    points = (deformer.deform(pose) if shown.pose else deformer.shaped(pose.shapes)).astype(float)
    seen = np.ones(len(points), bool)
    for part in character.parts:
        seen[slice(*part.points)] = not part.hidden
    triangles = topology_of(character).triangles
    triangles = triangles[seen[triangles[:, 0]]]
    turn, tilt = _seen_from(character, board)
    image = picture(
        points, triangles, point_colours(character).astype(float), (SIDE, SIDE), turn, tilt, _box(character, board)
    )
    return png(image)


def _meant(character: Character, board: Board) -> np.ndarray:
    """The points that the pictures are of: the region's, or those that the shapes move."""
    if board.region:
        rows = [character.arrays[f"region/{board.region}/points"]]
    else:
        rows = [character.arrays[f"shape/{n}/points"] for q in board.pictures for n in q.shapes]
    index = np.unique(np.concatenate(rows)) if rows else np.zeros(0, np.int64)
    return index if len(index) else np.arange(len(character.points))


def _box(character: Character, board: Board) -> tuple[np.ndarray, float]:
    """The middle (3,) and half the height of what the pictures show, metres."""
    of = character.points[_meant(character, board)]
    low, high = of.min(0), of.max(0)
    half = 0.5 * float(np.sort(high - low)[1:].max()) * MARGIN
    return 0.5 * (low + high), max(half, 0.02 * character.size)


def _seen_from(character: Character, board: Board) -> tuple[float, float]:
    """Turn and tilt, radians, of the way that most of it faces; a face is looked at from ahead."""
    normals = point_normals(character.points, topology_of(character).triangles)[_meant(character, board)]
    x, y, z = normals.mean(0)
    turn, tilt = float(np.arctan2(x, z)), float(np.arctan2(y, np.hypot(x, z)))
    if np.hypot(x, z) < VAGUE:
        turn = 0.0
    return (turn if abs(turn) > AHEAD else 0.0), (float(np.clip(tilt, -1.2, 1.2)) if abs(tilt) > ABOVE else 0.0)


def passed_over(character: Character, board: str, start: tuple[float, float], end: tuple[float, float]) -> list[str]:
    """What pictures a bead flashes on its straight way between two places of a board, in words."""
    found = character.board(board)
    keys = {key for key, _ in flashed(found, np.array([start, end], float))}
    return [" and ".join(q.shapes) for q in found.pictures if q.key in keys]
