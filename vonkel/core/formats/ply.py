"""PLY (Turk 1994, the PLY polygon file format): text and both binary orders, polygons, point colours."""

from __future__ import annotations

import re

import numpy as np

from ..errors import BadFile, TooLarge
from ..tolerances import MAX_FACES, MAX_POINTS
from .mesh import RawMesh

TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip


def read(name: str, data: bytes) -> RawMesh:
    """Read a mesh.  Elements other than vertex and face are passed over."""
    end = re.search(rb"end_header\r?\n", data[:65536])
    if not data.startswith(b"ply") or end is None:
        raise BadFile(f"{name} doesn't begin as a PLY file does.", name, "Check the file's ending.")
    order, elements = _header(name, data[: end.start()].decode("ascii", "replace"))
    try:
        read_body = _text if order == "" else _binary
        tables = read_body(data[end.end() :], order, elements)
    except (ValueError, IndexError, TypeError) as error:
        raise BadFile(
            f"{name} ends before its data does, or holds something else.", str(error), "Export it again."
        ) from None
    vertex, faces = tables.get("vertex"), tables.get("face")
    if not isinstance(vertex, dict) or not {"x", "y", "z"} <= set(vertex):
        raise BadFile(f"{name} has no points with x, y and z.", name, "Export it again.")
    points = np.stack([np.asarray(vertex[a], float) for a in "xyz"], 1)
    lists = None if faces is None else next((faces[k] for k in ("vertex_indices", "vertex_index") if k in faces), None)
    sizes = np.array([len(f) for f in lists], np.int64) if lists is not None else np.zeros(0, np.int64)
    keep = sizes >= 3
    kept = [np.asarray(f, np.int64) for f, k in zip(lists or [], keep, strict=True) if k]
    corners = np.concatenate(kept) if kept else np.zeros(0, np.int64)
    colours = None
    if {"red", "green", "blue"} <= set(vertex):
        colours = np.stack([np.asarray(vertex[c]) for c in ("red", "green", "blue")], 1)
        colours = (
            colours.astype(np.uint8) if colours.dtype.kind in "ui" else (np.clip(colours, 0, 1) * 255).astype(np.uint8)
        )
    starts = np.concatenate([[0], np.cumsum(sizes[keep])])
    return RawMesh(points, starts, corners, np.zeros(len(starts) - 1, np.int64), ["body"], colours)


Element = tuple[str, int, list[tuple[str, str, str]]]  # name, count, properties (name, count type, value type)


def _header(name: str, text: str) -> tuple[str, list[Element]]:
    order = ""
    elements: list[Element] = []
    limits = {"vertex": MAX_POINTS, "face": MAX_FACES}
    for line in text.splitlines()[1:]:
        w = line.split()
        try:
            if w[:1] == ["format"]:
                order = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}[w[1]]
            elif w[:1] == ["element"]:
                count = int(w[2])
                if not 0 <= count <= limits.get(w[1], MAX_FACES):
                    raise TooLarge(f"{name} claims {count:,} of “{w[1]}”.", "its header", "Lighten the mesh.")
                elements.append((w[1], count, []))
            elif w[:2] == ["property", "list"]:
                elements[-1][2].append((w[4], TYPES[w[2]], TYPES[w[3]]))
            elif w[:1] == ["property"]:
                elements[-1][2].append((w[2], "", TYPES[w[1]]))
        except (KeyError, IndexError, ValueError):
            raise BadFile(f"The header line “{line[:60]}” can't be read.", name, "Export it again.") from None
    return order, elements


def _binary(body: bytes, order: str, elements: list[Element]) -> dict:
    tables: dict = {}
    at = 0
    for name, count, properties in elements:
        if all(not c for _, c, _ in properties):
            dtype = np.dtype([(p, order + t) for p, _, t in properties])
            rows = np.frombuffer(body, dtype, count, at)
            at += count * dtype.itemsize
            tables[name] = {p: rows[p] for p, _, _ in properties}
            continue
        table: dict = {p: [] for p, _, _ in properties}
        for _ in range(count):
            for p, c, t in properties:
                n = 1
                if c:
                    n = int(np.frombuffer(body, order + c, 1, at)[0])
                    at += np.dtype(c).itemsize
                if n < 0 or n > 100_000:
                    raise ValueError("a face claims too many corners")
                table[p].append(np.frombuffer(body, order + t, n, at))
                at += n * np.dtype(t).itemsize
        tables[name] = table
    return tables


def _text(body: bytes, order: str, elements: list[Element]) -> dict:
    words = body.split()
    at = 0
    tables: dict = {}
    for name, count, properties in elements:
        table: dict = {p: [] for p, _, _ in properties}
        for _ in range(count):
            for p, c, t in properties:
                cast = float if t[0] == "f" else int
                if c:
                    n = int(words[at])
                    if n < 0 or at + 1 + n > len(words):
                        raise ValueError("a face claims more corners than there are")
                    table[p].append([cast(w) for w in words[at + 1 : at + 1 + n]])
                    at += 1 + n
                else:
                    table[p].append(cast(words[at]))
                    at += 1
        tables[name] = {
            p: (v if c else np.array(v, t)) for (p, c, t), v in zip(properties, table.values(), strict=True)
        }
    return tables
