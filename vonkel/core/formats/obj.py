"""Wavefront OBJ (the 1995 text format): points, polygons, texture places, object names, point colours."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..errors import BadFile
from .mesh import RawMesh


def read(name: str, data: bytes) -> RawMesh:
    """Read a mesh.  Lines other than v, vt, f, l, o, g and usemtl are passed over.
    Groups (or materials, where there are no groups) stay with the faces, so that a part can be split by them later.

    A `v` line may carry three colour values from 0 to 1 after the place, as many programs write.
    """
    if b"\0" in data[:4096]:
        raise BadFile(f"{name} is not text, so it is no OBJ.", name, "Check the file's ending.")
    text = data.decode("utf-8", "replace")
    points: list[list[float]] = []
    uvs: list[list[float]] = []
    starts, corners, corner_uvs, face_piece = [0], [], [], []
    pieces: list[str] = []
    piece = -1
    lines: list[list[int]] = []
    line_piece: list[int] = []
    groups: dict[str, int] = {}
    face_group: list[int] = []
    group = ""
    grouped = "\ng " in text or text.startswith("g ")
    objects = "\no " in text or text.startswith("o ")
    line_number = 0
    try:
        for line_number, line in enumerate(text.splitlines(), 1):  # noqa: B007 (told when a line fails)
            words = line.split()
            if not words:
                continue
            kind = words[0]
            if kind == "v":
                points.append([float(w) for w in words[1:]])
                if len(words) < 4:
                    raise ValueError("a point needs three numbers")
            elif kind == "vt":
                uvs.append([float(words[1]), 1.0 - float(words[2]) if len(words) > 2 else 1.0])  # V runs up here
            elif kind == "f":
                if piece < 0:
                    pieces.append("body")
                    piece = 0
                if len(words) < 4:
                    continue
                for w in words[1:]:
                    fields = w.split("/")
                    i = int(fields[0])
                    i = i - 1 if i > 0 else len(points) + i
                    if i < 0 or fields[0] == "0":
                        raise ValueError("a face names a point that doesn't exist")
                    corners.append(i)
                    t = int(fields[1]) if len(fields) > 1 and fields[1] else 0
                    corner_uvs.append(t - 1 if t > 0 else len(uvs) + t if t < 0 else -1)
                starts.append(len(corners))
                face_piece.append(piece)
                face_group.append(groups.setdefault(group, len(groups)))
            elif kind == "l":
                if piece < 0:
                    pieces.append("lines")
                    piece = 0
                run = [int(w.split("/")[0]) for w in words[1:]]
                lines.append([i - 1 if i > 0 else len(points) + i for i in run])
                line_piece.append(piece)
            elif (kind == "g" and grouped) or (kind == "usemtl" and not grouped):
                group = " ".join(words[1:]) or "group"
            if kind == "o" or (kind == "g" and not objects):
                pieces.append(" ".join(words[1:]) or "body")
                piece = len(pieces) - 1
    except (ValueError, IndexError) as error:
        raise BadFile(
            f"Line {line_number} can't be read: {error}.", f"{name}, line {line_number}", "Mend that line."
        ) from None
    if not points:
        raise BadFile(f"{name} holds no points.", name, "Is it an OBJ mesh?")
    n = len(points)
    for at, c in enumerate(corners):
        if c >= n:
            face = int(np.searchsorted(starts, at, "right"))
            raise BadFile(f"Face {face} names point {c + 1}, but there are {n}.", name, "Export the mesh again.")
    coloured = all(len(p) >= 6 for p in points)
    array = np.array([p[:3] for p in points], float)
    colours = None
    if coloured:
        rgb = np.nan_to_num(np.array([p[3:6] for p in points], float))
        colours = (np.clip(rgb, 0, 1) * 255 + 0.5).astype(np.uint8)
    uv_array = None
    if uvs and all(0 <= t < len(uvs) for t in corner_uvs):
        uv_array = np.array(uvs, np.float32)[corner_uvs]
    return RawMesh(
        array, np.array(starts), np.array(corners, np.int64), np.array(face_piece, np.int64), pieces, colours, uv_array,
        lines=lines, line_piece=line_piece, groups=list(groups), face_group=np.array(face_group, np.int64),
    )  # fmt: skip


def write(character: Character, points: np.ndarray | None = None) -> bytes:
    """The mesh as text, one `o` per part, polygons and point order kept; `points` (n, 3) in place of the rest."""
    p = character.points if points is None else points
    colours = character.arrays.get("colours")
    starts, corners = character.arrays["face_starts"], character.arrays["face_corners"]
    uvs = character.arrays.get("uvs")
    lines = []
    for part in character.parts:
        lines.append(f"o {part.name}")
        for i in range(*part.points):
            x, y, z = p[i]
            tail = "" if colours is None else "".join(f" {v / 255:.3f}" for v in colours[i])
            lines.append(f"v {x:.6f} {y:.6f} {z:.6f}{tail}")
        for f in range(*part.faces):
            lo, hi = int(starts[f]), int(starts[f + 1])
            if uvs is None:
                lines.append("f " + " ".join(str(c + 1) for c in corners[lo:hi]))
            else:
                lines += [f"vt {u:.6f} {1 - v:.6f}" for u, v in uvs[lo:hi]]
                lines.append("f " + " ".join(f"{corners[k] + 1}/{k + 1}" for k in range(lo, hi)))
        for i in range(*part.lines):
            run = character.arrays["line_points"][slice(*character.arrays["line_starts"][i : i + 2])]
            lines.append("l " + " ".join(str(v + 1) for v in run))
    return ("\n".join(lines) + "\n").encode()
