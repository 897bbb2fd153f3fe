"""Meshes and live frames as bytes."""

from __future__ import annotations

import hashlib
import json
import struct
from typing import Any

import numpy as np

from ..core.character import Character
from ..core.geometry.parts import point_colours
from ..core.geometry.topology import topology_of
from ..store import Position
from ..workshop.live import Frame

FORM = "2"  # of what `mesh_bytes` gives: pages keep meshes by their keys


def mesh_key(c: Character) -> str:
    parts = json.dumps([(p.points, p.faces, p.lines, p.colour, p.shading) for p in c.parts])
    names = ("points", "face_starts", "face_corners", "colours", "uvs", "line_starts", "line_points")
    text = "".join(c.arrays.hash_of(n) for n in names if n in c.arrays) + parts + FORM
    return hashlib.blake2b(text.encode(), digest_size=10).hexdigest()


def mesh_bytes(c: Character) -> bytes:
    """Header length, header JSON, then each blob on a boundary of four bytes:

    points float32, triangles uint32, colours uint8 × 3, part of each triangle uint16, line ends uint32 × 2 and their
    parts uint16, whether a triangle is of the same face as the one before uint8; where corners of one point differ (texture seams, hard shading) also the corners to draw: their points
    uint32, triangles uint32, texture places float32 × 2, and uint8 whether their normals are the points'.
    """
    topo = topology_of(c)
    part = c.part_numbers("faces").astype(np.uint16)
    ends, line_part = _line_ends(c)
    corners = _draw_corners(c)
    header: dict[str, Any] = {
        "points": len(c.points), "triangles": len(topo.triangles), "lines": len(ends),
        "corners": len(corners[0]) if corners else 0, "uvs": "uvs" in c.arrays,
    }  # fmt: skip
    blobs = [
        c.points.astype(np.float32), topo.triangles.astype(np.uint32), point_colours(c), part[topo.triangle_face],
        ends.astype(np.uint32), line_part, np.diff(topo.triangle_face, prepend=-1) == 0, *(corners or ()),
    ]  # fmt: skip
    text = json.dumps(header).encode()
    text += b" " * (-len(text) % 4)
    body = b"".join(b.tobytes() + b"\0" * (-b.nbytes % 4) for b in blobs)
    return struct.pack("<I", len(text)) + text + body


def _line_ends(c: Character) -> tuple[np.ndarray, np.ndarray]:
    """(k, 2) ends of every piece of drawn lines, and the part of each."""
    if "line_starts" not in c.arrays:
        return np.zeros((0, 2), np.uint32), np.zeros(0, np.uint16)
    starts, points = c.arrays["line_starts"], c.arrays["line_points"]
    inner = np.ones(len(points), bool)
    inner[starts[1:] - 1] = False
    first = np.flatnonzero(inner)
    line = np.searchsorted(starts, first, "right") - 1
    part = c.part_numbers("lines").astype(np.uint16)
    return np.stack([points[first], points[first + 1]], 1), part[line]


def _draw_corners(c: Character) -> tuple[np.ndarray, ...] | None:
    """What a drawing needs where one point has several corners: (points, triangles, texture places, smooth)."""
    hard = [p for p in c.parts if p.shading == "hard"]
    if "uvs" not in c.arrays and not hard:
        return None
    topo = topology_of(c)
    own = np.zeros(len(topo.corners), np.int64)  # faces of hard parts keep their corners to themselves
    for p in hard:
        lo, hi = int(topo.starts[p.faces[0]]), int(topo.starts[p.faces[1]])
        own[lo:hi] = topo.corner_face[lo:hi] + 1
    uv = c.arrays["uvs"].astype(np.float32) if "uvs" in c.arrays else np.zeros((len(topo.corners), 2), np.float32)
    bits = uv.view(np.uint32).astype(np.int64)
    _, first, number = np.unique(
        np.column_stack([topo.corners, own, bits]), axis=0, return_index=True, return_inverse=True
    )
    number = np.asarray(number).ravel()
    return (
        topo.corners[first].astype(np.uint32), number[topo.triangle_corners].astype(np.uint32),
        np.ascontiguousarray(uv[first]), (own[first] == 0).astype(np.uint8),
    )  # fmt: skip


def frame_bytes(frame: Frame) -> bytes:
    """One live frame: sequence and JSON length uint32, the JSON, then its blocks of float32.

    The JSON is what is said of the frame, and `blocks`: [name, how many numbers] in their order.
    """
    blocks = [(n, np.ascontiguousarray(b, np.float32)) for n, b in frame.blocks]
    text = json.dumps({**frame.said, "blocks": [[n, b.size] for n, b in blocks]}).encode()
    text += b" " * (-len(text) % 4)
    # Joined straight from the arrays: one copy less of every frame.
    return b"".join((struct.pack("<II", frame.sequence, len(text)), text, *(b.data for _, b in blocks)))


def where(position: Position) -> dict[str, int]:
    return {"step": position.step, "pose": position.pose}
