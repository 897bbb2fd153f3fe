"""Wavefront OBJ (the 1995 text format): points, polygons, texture places, object names, point colours."""

from __future__ import annotations

import io
from array import array
from collections.abc import Iterator

import numpy as np

from ..errors import BadFile
from .mesh import RawMesh
from .reading import count, plainly
from .scene import Scene

MOST_IN_LINE = 1 << 20


def read(name: str, data: bytes) -> RawMesh:
    """Read a mesh.  Lines other than v, vt, f, l, o, g and usemtl are passed over.
    Groups (or materials, where there are no groups) stay with the faces, so that a part can be split by them later.

    A `v` line may carry three colour values from 0 to 1 after the place, as many programs write.
    """
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        data = data.decode("utf-16", "replace").encode()
    if b"\0" in data[:4096]:
        raise BadFile(f"{name} is not text, so it is no OBJ.", name, "Check the file's ending.")
    mesh = _Reading(data)
    line_number = 0
    try:
        for line_number, words in _lines(data):
            mesh.take(words)
            if not line_number % 4096:
                mesh.keep_count()
    except (ValueError, IndexError, OverflowError) as error:
        raise BadFile(
            f"Line {line_number} can't be read: {plainly(error)}.", f"{name}, line {line_number}", "Mend that line."
        ) from None
    mesh.keep_count()
    return mesh.made(name)


def _lines(data: bytes) -> Iterator[tuple[int, list[str]]]:
    """The words of every line that has some, with the number of the line it began on; `\\` at an end goes on with the next."""
    before = b""
    began = 1
    for number, line in enumerate(io.BytesIO(data), 1):
        if not before:
            began = number
        if line.rstrip(b"\r\n").endswith(b"\\"):
            before += line.rstrip(b"\r\n")[:-1] + b" "
            if len(before) > MOST_IN_LINE:
                raise ValueError("the line goes on too long")
            continue
        words = (before + line).decode("utf-8", "replace").split()
        before = b""
        if words:
            yield began, words
    if before.split():
        yield began, before.decode("utf-8", "replace").split()


class _Reading:
    """What was read so far, kept flat: a mesh of millions of points must not take a Python object each."""

    def __init__(self, data: bytes) -> None:
        self.points, self.colours, self.uvs = array("d"), array("d"), array("d")
        self.starts, self.corners, self.corner_uvs = array("q", [0]), array("q"), array("q")
        self.face_piece, self.face_group = array("q"), array("q")
        self.pieces: list[str] = []
        self.piece = -1
        self.lines: list[list[int]] = []
        self.line_piece: list[int] = []
        self.groups: dict[str, int] = {}
        self.group = ""
        self.grouped = b"\ng " in data or data.startswith(b"g ")
        self.objects = b"\no " in data or data.startswith(b"o ")
        self.counted = [0, 0, 0]

    def keep_count(self) -> None:
        now = [len(self.points) // 3, len(self.starts) - 1, len(self.corners)]
        for kind, n, old in zip(("points", "faces", "corners"), now, self.counted, strict=True):
            count(kind, n - old)
        self.counted = now

    def take(self, words: list[str]) -> None:
        kind = words[0]
        if kind == "v":
            if len(words) < 4:
                raise ValueError("a point needs three numbers")
            self.points.extend(map(float, words[1:4]))
            if len(words) > 6:
                self.colours.extend(map(float, words[4:7]))
        elif kind == "vt":
            u, v = float(words[1]), float(words[2]) if len(words) > 2 else 0.0
            self.uvs.extend((u, 1.0 - v))  # V runs up here
        elif kind == "f":
            self._face(words[1:])
        elif kind == "l":
            self._begin("lines")
            n = len(self.points) // 3
            run = [_index(w.split("/")[0], n) for w in words[1:]]
            self.lines.append(run)
            self.line_piece.append(self.piece)
        elif (kind == "g" and self.grouped) or (kind == "usemtl" and not self.grouped):
            self.group = " ".join(words[1:]) or "group"
        if kind == "o" or (kind == "g" and not self.objects):
            self.pieces.append(" ".join(words[1:]) or "body")
            self.piece = len(self.pieces) - 1
            count("nodes", 1)

    def _begin(self, what: str) -> None:
        if self.piece < 0:
            self.pieces.append(what)
            self.piece = 0

    def _face(self, words: list[str]) -> None:
        self._begin("body")
        if len(words) < 3:
            return
        n, uvs = len(self.points) // 3, len(self.uvs) // 2
        try:
            plain = [int(w) for w in words]  # most faces name points alone
        except ValueError:
            plain = []
        if plain and 0 < min(plain) and max(plain) < 2**53:
            self.corners.extend([i - 1 for i in plain])
            self.corner_uvs.extend([-1] * len(plain))
            words = []
        for w in words:
            fields = w.split("/")
            self.corners.append(_index(fields[0], n))
            t = int(fields[1]) if len(fields) > 1 and fields[1] else 0
            self.corner_uvs.append(t - 1 if t > 0 else uvs + t if t < 0 else -1)
        self.starts.append(len(self.corners))
        self.face_piece.append(self.piece)
        self.face_group.append(self.groups.setdefault(self.group, len(self.groups)))

    def made(self, name: str) -> RawMesh:
        n = len(self.points) // 3
        if not n:
            raise BadFile(f"{name} holds no points.", name, "Is it an OBJ mesh?")
        starts, corners = np.array(self.starts, np.int64), np.array(self.corners, np.int64)
        beyond = np.flatnonzero(corners >= n)
        if len(beyond):
            face = int(np.searchsorted(starts, beyond[0], "right"))
            raise BadFile(
                f"Face {face} names point {corners[beyond[0]] + 1}, but there are {n}.", name, "Export the mesh again."
            )
        colours = uvs = None
        if len(self.colours) == len(self.points):
            rgb = np.nan_to_num(np.array(self.colours).reshape(-1, 3))
            colours = (np.clip(rgb, 0, 1) * 255 + 0.5).astype(np.uint8)
        at = np.array(self.corner_uvs, np.int64)
        if self.uvs and len(at) and at.min() >= 0 and at.max() < len(self.uvs) // 2:
            uvs = np.array(self.uvs).reshape(-1, 2)[at].astype(np.float32)
        return RawMesh(
            np.array(self.points).reshape(-1, 3), starts, corners, np.array(self.face_piece, np.int64), self.pieces, colours,
            uvs, lines=self.lines, line_piece=self.line_piece, groups=list(self.groups),
            face_group=np.array(self.face_group, np.int64),
        )  # fmt: skip


def _index(word: str, count: int) -> int:
    """A point's number from 0; the format counts from 1, or from the last one backwards."""
    i = int(word)
    if i == 0 or count + i < 0 or abs(i) > 2**53:
        raise ValueError("it names a point that doesn't exist")
    return i - 1 if i > 0 else count + i


def write(scene: Scene) -> bytes:
    """The mesh as text, one `o` per part, polygons and point order kept."""
    mesh = scene.polygons
    starts, corners, uvs, colours = mesh.face_starts, mesh.face_corners, mesh.uvs, mesh.colours
    lines = []
    for name, points, faces, strokes in mesh.parts:
        lines.append(f"o {name}")
        for i in range(*points):
            x, y, z = mesh.points[i]
            tail = "" if colours is None else "".join(f" {v / 255:.3f}" for v in colours[i])
            lines.append(f"v {x:.6f} {y:.6f} {z:.6f}{tail}")
        for f in range(*faces):
            lo, hi = int(starts[f]), int(starts[f + 1])
            if uvs is None:
                lines.append("f " + " ".join(str(c + 1) for c in corners[lo:hi]))
            else:
                lines += [f"vt {u:.6f} {1 - v:.6f}" for u, v in uvs[lo:hi]]
                lines.append("f " + " ".join(f"{corners[k] + 1}/{k + 1}" for k in range(lo, hi)))
        if mesh.line_starts is not None and mesh.line_points is not None:
            runs = [mesh.line_points[slice(*mesh.line_starts[i : i + 2])] for i in range(*strokes)]
            lines += ["l " + " ".join(str(v + 1) for v in run) for run in runs]
    return ("\n".join(lines) + "\n").encode()
