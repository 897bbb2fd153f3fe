"""What every mesh reader gives, and how it becomes a character."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ..character import Arrays, Character, Part, unique_name
from ..character.words import PALETTE, clean_name, role_of
from ..errors import BadFile, BadParameters, TooLarge
from ..shapes import add_shape
from ..tolerances import FARTHEST, MAX_CORNERS, MAX_FACES, MAX_PARTS, MAX_POINTS


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
    lines: list[list[int]] = field(default_factory=list)  # drawn lines, from point to point
    line_piece: list[int] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    face_group: np.ndarray | None = None  # (f,) into groups
    carried: dict[str, np.ndarray] = field(default_factory=dict)  # piece → (3, 4) transform its points came under
    texture: bytes | None = None
    left_out: list[str] = field(default_factory=list)  # what of the file couldn't be used, as sentences


def checked(mesh: RawMesh, where: str) -> RawMesh:
    """The mesh, if it is one: finite points, faces that name points, sizes within limits.  Lines of one point are dropped."""
    n = len(mesh.points)
    if n > MAX_POINTS or len(mesh.starts) - 1 > MAX_FACES or len(mesh.corners) > MAX_CORNERS:
        raise TooLarge(f"The mesh has {n:,} points; Vonkel takes {MAX_POINTS:,} at most.", where, "Lighten it.")
    if not n or mesh.points.shape != (n, 3):
        raise BadFile("The mesh has no points with three numbers each.", where, "Export it again.")
    longer = [len(line) > 1 for line in mesh.lines]
    if not all(longer):
        mesh.line_piece = [p for p, keep in zip(mesh.line_piece, longer, strict=True) if keep]
        mesh.lines = [line for line in mesh.lines if len(line) > 1]
    if len(mesh.starts) < 2 and not mesh.lines:
        raise BadFile("The mesh has no faces and no lines.", where, "Export the surface, not only points.")
    bad = np.flatnonzero(~np.isfinite(mesh.points).all(1))
    if len(bad):
        raise BadFile(f"Point {bad[0] + 1} has a place that is not a number.", where, "Mend it and export again.")
    if np.abs(mesh.points).max() > FARTHEST:
        raise BadFile("The mesh is more than a thousand kilometres large.", where, "Set its scale and export again.")
    if any(not 0 <= v < n for line in mesh.lines for v in line):
        raise BadFile("A line names a point that doesn't exist.", where, "Export the drawing again.")
    if not len(mesh.corners):
        return mesh
    low, high = mesh.corners.min(), mesh.corners.max()
    if low < 0 or high >= n:
        face = int(np.searchsorted(mesh.starts, np.argmax((mesh.corners < 0) | (mesh.corners >= n)), "right"))
        raise BadFile(f"Face {face} names point {high + 1}, but there are {n}.", where, "Export the mesh again.")
    return mesh


def character_from_mesh(mesh: RawMesh, called: str, where: str = "") -> Character:
    """A character of parts.  Pieces that share points are one part; points keep their order within a part."""
    mesh = checked(mesh, where)
    n = len(mesh.points)
    sizes = np.diff(mesh.starts)
    corner_piece = np.repeat(mesh.face_piece, sizes)
    # Pieces that share points are joined: they are the connected ones of a graph in which a shared point is an edge.
    line_flat = np.array([v for line in mesh.lines for v in line], np.int64)
    line_of = np.repeat(np.array(mesh.line_piece, np.int64), [len(line) for line in mesh.lines]).astype(np.int64)
    count = max(len(mesh.pieces), 1)
    codes = np.unique(np.concatenate([mesh.corners * count + corner_piece, line_flat * count + line_of]))
    pairs = np.stack([codes // count, codes % count], 1)
    shared = np.flatnonzero(np.diff(pairs[:, 0]) == 0)
    ends = pairs[shared, 1], pairs[shared + 1, 1]
    graph = coo_array((np.ones(len(shared), np.int8), ends), shape=(count, count))
    label = connected_components(graph, directed=False)[1]
    roots = np.unique(label, return_index=True)[1][label]  # the first piece of each joined lot
    owner = np.full(n, -1)
    owner[pairs[:, 0]] = roots[pairs[:, 1]]
    loose = np.flatnonzero(owner < 0)
    used = np.unique(roots[np.concatenate([mesh.face_piece, mesh.line_piece]).astype(np.int64)])
    if len(loose):  # points of no face stay with the part before them
        claimed = np.flatnonzero(owner >= 0)
        before = np.searchsorted(claimed, loose) - 1
        owner[loose] = owner[claimed[np.maximum(before, 0)]]
    if len(used) > MAX_PARTS:
        raise TooLarge(f"The mesh has {len(used)} parts; Vonkel takes {MAX_PARTS} at most.", where, "Join some.")
    place = np.zeros(count, np.int64)  # of each piece: its part
    place[np.isin(roots, used)] = np.searchsorted(used, roots[np.isin(roots, used)])
    part_of_point = place[owner] if n else owner
    order = np.argsort(part_of_point, kind="stable")
    new_index = np.empty(n, np.int64)
    new_index[order] = np.arange(n)
    part_of_face = place[mesh.face_piece]
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
    if mesh.face_group is not None and len(mesh.groups) > 1:
        arrays["face_groups"] = mesh.face_group[face_order].astype(np.uint16)
    part_of_line = place[np.array(mesh.line_piece, np.int64)] if mesh.lines else np.zeros(0, np.int64)
    line_order = np.argsort(part_of_line, kind="stable")
    if mesh.lines:
        counts = [len(mesh.lines[i]) for i in line_order]
        arrays["line_starts"] = np.concatenate([[0], np.cumsum(counts)]).astype(np.int32)
        arrays["line_points"] = new_index[np.concatenate([mesh.lines[i] for i in line_order])].astype(np.int32)
    if mesh.texture:
        arrays["texture"] = np.frombuffer(mesh.texture, np.uint8)
    if mesh.colours is not None:
        arrays["colours"] = np.ascontiguousarray(mesh.colours[order], np.uint8)
    if mesh.uvs is not None and mesh.uvs.shape == (len(mesh.corners), 2) and np.isfinite(mesh.uvs).all():
        arrays["uvs"] = np.ascontiguousarray(mesh.uvs[take], np.float32)
    parts: list[Part] = []
    taken: set[str] = set()
    for i, r in enumerate(used):
        name = unique_name(clean_name(mesh.pieces[int(r)]) or f"part {i + 1}", taken)
        taken.add(name)
        in_part, faces_in = np.flatnonzero(part_of_point[order] == i), np.flatnonzero(part_of_face[face_order] == i)
        drawn = np.flatnonzero(part_of_line[line_order] == i)
        carried = mesh.carried.get(mesh.pieces[int(r)])
        parts.append(
            Part(
                name=name, role=role_of(name) if len(faces_in) else "line",
                points=(int(in_part[0]), int(in_part[-1]) + 1),
                faces=(int(faces_in[0]), int(faces_in[-1]) + 1) if len(faces_in) else _after(parts, "faces"),
                lines=(int(drawn[0]), int(drawn[-1]) + 1) if len(drawn) else _after(parts, "lines"),
                carried=tuple(float(v) for v in carried[:3].ravel()) if carried is not None else None,
                colour=mesh.piece_colours.get(mesh.pieces[int(r)], PALETTE[i % len(PALETTE)]),
            )
        )  # fmt: skip
    if not any(p.role == "skin" for p in parts) and any(p.role != "line" for p in parts):
        biggest = max(range(len(parts)), key=lambda i: parts[i].points[1] - parts[i].points[0])
        parts[biggest] = parts[biggest].model_copy(update={"role": "skin"})
    groups = tuple((clean_name(g) or "group") for g in mesh.groups) if "face_groups" in arrays else ()
    left_out = list(mesh.left_out)
    if mesh.uvs is not None and "uvs" not in arrays:
        left_out.append("The texture places: some are not numbers.")
    character = Character(name=called, parts=tuple(parts), arrays=Arrays(arrays), groups=groups)
    if mesh.shapes:
        for name, moved in mesh.shapes.items():
            try:
                character = add_shape(character, clean_name(name) or "shape", moved[order])
            except BadParameters as error:  # a target may be of no use, and the mesh of much
                left_out.append(f"The morph target “{clean_name(name)}”: {error.what}")
    return character.with_(left_out=tuple(s[:300] for s in left_out[:50])) if left_out else character


def _after(parts: list[Part], what: str) -> tuple[int, int]:
    """An empty run behind those of the parts before."""
    end = getattr(parts[-1], what)[1] if parts else 0
    return end, end
