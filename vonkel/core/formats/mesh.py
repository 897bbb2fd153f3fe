"""What every mesh reader gives, and how it becomes a character."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..character import Arrays, Character, Part, unique_name
from ..errors import BadFile, TooLarge
from ..tolerances import MAX_CORNERS, MAX_FACES, MAX_PARTS, MAX_POINTS

ROLES = (("eye", ("eye",)), ("teeth", ("teeth", "tooth", "gum")), ("tongue", ("tongue",)))
NOT_EYES = ("brow", "lid", "lash")
PALETTE = ("#c9a679", "#9fb3a5", "#b58f7b", "#8fa3b3", "#c4b27a", "#a88fa8")


@dataclass
class RawMesh:
    """Faces as read: points (n, 3), starts (f + 1,), corners (m,), the piece of each face (f,), and extras."""

    points: np.ndarray
    starts: np.ndarray
    corners: np.ndarray
    face_piece: np.ndarray
    pieces: list[str]
    colours: np.ndarray | None = None  # (n, 3) uint8
    uvs: np.ndarray | None = None  # (m, 2)
    piece_colours: dict[str, str] = field(default_factory=dict)
    shapes: dict[str, np.ndarray] = field(default_factory=dict)  # name → moved points (n, 3)


def checked(mesh: RawMesh, where: str) -> RawMesh:
    """The mesh, if it is one: finite points, faces that name points, sizes within limits."""
    n = len(mesh.points)
    if n > MAX_POINTS or len(mesh.starts) - 1 > MAX_FACES or len(mesh.corners) > MAX_CORNERS:
        raise TooLarge(f"The mesh has {n:,} points; Vonkel takes {MAX_POINTS:,} at most.", where, "Lighten it.")
    if len(mesh.starts) < 2:
        raise BadFile("The mesh has no faces.", where, "Export the surface, not only points or lines.")
    bad = np.flatnonzero(~np.isfinite(mesh.points).all(1))
    if len(bad):
        raise BadFile(f"Point {bad[0] + 1} has a place that is not a number.", where, "Mend it and export again.")
    if np.abs(mesh.points).max() > 1e6:
        raise BadFile("The mesh is more than a thousand kilometres large.", where, "Set its scale and export again.")
    low, high = mesh.corners.min(), mesh.corners.max()
    if low < 0 or high >= n:
        face = int(np.searchsorted(mesh.starts, np.argmax((mesh.corners < 0) | (mesh.corners >= n)), "right"))
        raise BadFile(f"Face {face} names point {high + 1}, but there are {n}.", where, "Export the mesh again.")
    return mesh


def role_of(name: str) -> str:
    low = name.lower()
    for role, words in ROLES:
        if any(w in low for w in words) and not any(w in low for w in NOT_EYES):
            return role
    return "skin"


def character_from_mesh(mesh: RawMesh, called: str, where: str = "") -> Character:
    """A character of parts.  Pieces that share points are one part; points keep their order within a part."""
    mesh = checked(mesh, where)
    n = len(mesh.points)
    sizes = np.diff(mesh.starts)
    corner_piece = np.repeat(mesh.face_piece, sizes)
    # Which piece first claims each point; pieces that share points are joined.
    group = np.arange(len(mesh.pieces))

    def root(i: int) -> int:
        while group[i] != i:
            i = group[i]
        return i

    owner = np.full(n, -1)
    pairs = np.unique(np.stack([mesh.corners, corner_piece], 1), axis=0)
    for point, piece in pairs[
        np.concatenate([np.diff(pairs[:, 0]) == 0, [False]]) | np.concatenate([[False], np.diff(pairs[:, 0]) == 0])
    ]:
        if owner[point] >= 0 and root(owner[point]) != root(piece):
            a, b = sorted((root(owner[point]), root(piece)))
            group[b] = a
        owner[point] = piece
    roots = np.array([root(i) for i in range(len(group))])
    owner[pairs[:, 0]] = roots[pairs[:, 1]]
    loose = np.flatnonzero(owner < 0)
    used = np.unique(roots[mesh.face_piece])
    if len(loose):  # points of no face stay with the part before them
        claimed = np.flatnonzero(owner >= 0)
        before = np.searchsorted(claimed, loose) - 1
        owner[loose] = owner[claimed[np.maximum(before, 0)]]
    if len(used) > MAX_PARTS:
        raise TooLarge(f"The mesh has {len(used)} parts; Vonkel takes {MAX_PARTS} at most.", where, "Join some.")
    place_of_root = {int(r): i for i, r in enumerate(used)}
    part_of_point = np.array([place_of_root.get(int(r), 0) for r in roots])[owner] if n else owner
    order = np.argsort(part_of_point, kind="stable")
    new_index = np.empty(n, np.int64)
    new_index[order] = np.arange(n)
    part_of_face = np.array([place_of_root.get(int(r), 0) for r in roots])[mesh.face_piece]
    face_order = np.argsort(part_of_face, kind="stable")
    starts = np.concatenate([[0], np.cumsum(sizes[face_order])])
    take = np.repeat(mesh.starts[:-1][face_order], sizes[face_order]) + (
        np.arange(starts[-1]) - np.repeat(starts[:-1], sizes[face_order])
    )
    arrays: dict[str, np.ndarray] = {
        "points": np.ascontiguousarray(mesh.points[order], np.float64),
        "face_starts": starts.astype(np.int32),
        "face_corners": new_index[mesh.corners[take]].astype(np.int32),
    }
    if mesh.colours is not None:
        arrays["colours"] = np.ascontiguousarray(mesh.colours[order], np.uint8)
    if mesh.uvs is not None:
        arrays["uvs"] = np.ascontiguousarray(mesh.uvs[take], np.float32)
    parts: list[Part] = []
    taken: set[str] = set()
    for i, r in enumerate(used):
        name = unique_name(clean_name(mesh.pieces[int(r)]) or f"part {i + 1}", taken)
        taken.add(name)
        in_part, faces_in = np.flatnonzero(part_of_point[order] == i), np.flatnonzero(part_of_face[face_order] == i)
        parts.append(
            Part(
                name=name, role=role_of(name),  # type: ignore[arg-type]
                points=(int(in_part[0]), int(in_part[-1]) + 1), faces=(int(faces_in[0]), int(faces_in[-1]) + 1),
                colour=mesh.piece_colours.get(mesh.pieces[int(r)], PALETTE[i % len(PALETTE)]),
            )
        )  # fmt: skip
    if not any(p.role == "skin" for p in parts):
        biggest = max(range(len(parts)), key=lambda i: parts[i].points[1] - parts[i].points[0])
        parts[biggest] = parts[biggest].model_copy(update={"role": "skin"})
    character = Character(name=called, parts=tuple(parts), arrays=Arrays(arrays))
    if mesh.shapes:
        from ..shapes import add_shape

        for name, moved in mesh.shapes.items():
            if not np.isfinite(moved).all():
                raise BadFile(f"The morph target “{name}” has places that are not numbers.", where)
            character = add_shape(character, clean_name(name) or "shape", moved[order])
    return character


def clean_name(name: str) -> str:
    """A name fit to show: printable, no slashes, at most 60 characters."""
    return "".join(c if c.isprintable() and c not in "/\\" else " " for c in name).strip()[:60]
