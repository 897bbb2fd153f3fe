"""PLY (Turk 1994, the PLY polygon file format): text and both binary orders, polygons, point colours."""

from __future__ import annotations

import re
import warnings
from typing import Any

import numpy as np

from ..errors import BadFile, TooLarge
from ..tolerances import MAX_FACES, MAX_POINTS
from .mesh import RawMesh
from .reading import claim, count, on_time, plainly

MOST_ELEMENTS, MOST_PROPERTIES, MOST_CORNERS = 64, 256, 100_000
Property = tuple[str, str, str]  # name, count type (empty: no list), value type
Element = tuple[str, int, list[Property]]
Table = dict[str, "np.ndarray | list[np.ndarray]"]  # a property's numbers, or its lists
Tables = dict[str, Table]
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
        tables = read_body(memoryview(data)[end.end() :], order, elements)
        return _mesh(name, tables)
    except (StopIteration, ValueError, IndexError, TypeError, OverflowError) as error:
        raise BadFile(
            f"{name} ends before its data does, or holds something else.", f"{name}: {plainly(error)}" if str(error) else name,
            "Export it again.",
        ) from None  # fmt: skip


def _mesh(name: str, tables: Tables) -> RawMesh:
    vertex, faces = tables.get("vertex", {}), tables.get("face", {})
    places = [p.astype(float) for a in "xyz" if isinstance(p := vertex.get(a), np.ndarray)]
    if len(places) < 3:
        raise BadFile(f"{name} has no points with one x, y and z each.", name, "Export it again.")
    points = np.stack(places, 1)
    lists = next((faces[k] for k in ("vertex_indices", "vertex_index") if k in faces), [])
    if isinstance(lists, np.ndarray):
        raise BadFile(f"The faces of {name} name one point each.", name, "Export it again.")
    sizes = np.array([len(f) for f in lists], np.int64)
    keep = sizes >= 3
    kept = [_whole(f) for f, k in zip(lists, keep, strict=True) if k]
    corners = np.concatenate(kept) if kept else np.zeros(0, np.int64)
    count("corners", len(corners))
    colours = None
    given = [vertex.get(c) for c in ("red", "green", "blue")]
    if all(isinstance(c, np.ndarray) for c in given):
        colours = np.stack([_bytes(c) for c in given], 1)  # type: ignore[arg-type]
    starts = np.concatenate([[0], np.cumsum(sizes[keep])])
    return RawMesh(points, starts, corners, np.zeros(len(starts) - 1, np.int64), ["body"], colours)


def _whole(values: np.ndarray) -> np.ndarray:
    out = values.astype(np.int64)
    if values.dtype.kind == "f" and not (out == values).all():
        raise ValueError("a face names a point by what is no whole number")
    return out


def _bytes(values: np.ndarray) -> np.ndarray:
    """Colours as bytes: 16-bit ones scaled, other whole numbers cut off at 255, fractions taken as shares of one."""
    if values.dtype.kind == "f":
        return np.asarray((np.clip(np.nan_to_num(values), 0, 1) * 255).astype(np.uint8))
    return (values // 257 if values.dtype.str[1:] == "u2" else np.clip(values, 0, 255)).astype(np.uint8)


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
                number = int(w[2])
                if not 0 <= number <= limits.get(w[1], MAX_FACES) or len(elements) >= MOST_ELEMENTS:
                    raise TooLarge(f"{name} claims {number:,} of “{w[1][:40]}”.", "its header", "Lighten the mesh.")
                elements.append((w[1], number, []))
            elif w[:2] == ["property", "list"]:
                elements[-1][2].append((w[4], TYPES[w[2]], TYPES[w[3]]))
            elif w[:1] == ["property"]:
                elements[-1][2].append((w[2], "", TYPES[w[1]]))
        except (KeyError, IndexError, ValueError):
            raise BadFile(f"The header line “{line[:60]}” can't be read.", name, "Export it again.") from None
    if any(len(p) > MOST_PROPERTIES or len({q for q, _, _ in p}) != len(p) for _, _, p in elements):
        raise BadFile("Its header names a property twice, or too many.", name, "Export it again.")
    return order, [e for e in elements if e[2]]


def _binary(body: memoryview, order: str, elements: list[Element]) -> Tables:
    tables: Tables = {}
    at = 0
    for name, number, properties in elements:
        if not number:
            continue
        uniform = _uniform(body, at, order, number, properties)
        if uniform is None:
            tables[name], at = _row_by_row(body, at, order, number, properties)
            continue
        rows = np.frombuffer(body, uniform, number, at)
        at += number * uniform.itemsize
        tables[name] = {p: list(rows[p]) if c else rows[p] for p, c, _ in properties}
    return tables


def _uniform(
    body: memoryview, at: int, order: str, number: int, properties: list[Property]
) -> np.dtype | None:  # fmt: skip
    """The type of a row where all rows are alike: no lists, or lists that are all as long as the first row's."""
    fields: list[tuple[str, str] | tuple[str, str, tuple[int]]] = []
    lengths: dict[str, int] = {}
    for p, c, t in properties:
        if c:
            reach = np.dtype(fields).itemsize if fields else 0
            n = int(np.frombuffer(body, order + c, 1, at + reach)[0])
            if not 0 < n <= MOST_CORNERS:
                return None
            lengths[p] = n
            fields += [(f"{p} count", order + c), (p, order + t, (n,))]
        else:
            fields.append((p, order + t))
    dtype = np.dtype(fields)
    if at + number * dtype.itemsize > len(body):
        if not lengths:
            raise ValueError("fewer bytes than it claims")
        return None
    rows = np.frombuffer(body, dtype, number, at)
    return dtype if all((rows[f"{p} count"] == n).all() for p, n in lengths.items()) else None


def _row_by_row(
    body: memoryview, at: int, order: str, number: int, properties: list[Property]
) -> tuple[Table, int]:  # fmt: skip
    table: dict[str, list[Any]] = {p: [] for p, _, _ in properties}
    for i in range(number):
        if not i % 4096:
            on_time()
        for p, c, t in properties:
            n = 1
            if c:
                n = int(np.frombuffer(body, order + c, 1, at)[0])
                at += np.dtype(c).itemsize
            if n < 0 or n > MOST_CORNERS:
                raise ValueError("a face claims too many corners")
            table[p].append(np.frombuffer(body, order + t, n, at))
            at += n * np.dtype(t).itemsize
    return {p: table[p] if c else np.concatenate(table[p]) for p, c, _ in properties}, at


def _text(body: memoryview, order: str, elements: list[Element]) -> Tables:
    flat = _all_numbers(body)
    at = 0
    tables: Tables = {}
    for name, number, properties in elements:
        if not number:
            continue
        widths = _same_widths(flat, at, number, properties)
        if widths is not None:
            rows = flat[at : at + number * sum(widths)].reshape(number, -1)
            at += rows.size
            ends = np.cumsum(widths)
            tables[name] = {
                p: list(_typed(rows[:, end - w + 1 : end], t)) if c else _typed(rows[:, end - 1], t)
                for (p, c, t), w, end in zip(properties, widths, ends, strict=True)
            }
            continue
        table: dict[str, list[Any]] = {p: [] for p, _, _ in properties}
        for i in range(number):
            if not i % 4096:
                on_time()
            for p, c, t in properties:
                n = int(flat[at]) if c else 1
                at += 1 if c else 0
                if not 0 <= n <= MOST_CORNERS or at + n > len(flat):
                    raise ValueError("a list claims more than there is")
                table[p].append(_typed(flat[at : at + n], t))
                at += n
        tables[name] = {p: table[p] if c else np.concatenate(table[p]) for p, c, _ in properties}
    return tables


def _all_numbers(body: memoryview) -> np.ndarray:
    """Everything in the text as float64.  Raises ValueError where something else stands."""
    claim(4 * len(body), "It")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        try:
            return np.fromstring(bytes(body), float, sep=" ")
        except DeprecationWarning:
            raise ValueError("something in it is no number") from None


def _same_widths(flat: np.ndarray, at: int, number: int, properties: list[Property]) -> list[int] | None:
    """How many numbers each property takes in every row, a list's count among them; None where rows differ."""
    widths: list[int] = []
    for _, c, _ in properties:
        here = at + sum(widths)
        if here >= len(flat):
            raise ValueError("fewer numbers than it claims")
        n = int(flat[here]) if c and np.isfinite(flat[here]) else 0
        if c and not 0 < n <= MOST_CORNERS:
            return None
        widths.append(1 + n if c else 1)
    if at + number * sum(widths) > len(flat):
        if not any(c for _, c, _ in properties):
            raise ValueError("fewer numbers than it claims")
        return None
    rows = flat[at : at + number * sum(widths)].reshape(number, -1)
    starts = np.cumsum([0, *widths[:-1]])
    alike = all((rows[:, s] == w - 1).all() for (_, c, _), s, w in zip(properties, starts, widths, strict=True) if c)
    return widths if alike else None


def _typed(values: np.ndarray, kind: str) -> np.ndarray:
    """Numbers as the type that the header gives them.  Raises ValueError for those that it can't hold."""
    if kind[0] == "f":
        return values.astype(kind)
    limits = np.iinfo(kind)
    if not np.isfinite(values).all() or len(values) and (values.min() < limits.min or values.max() > limits.max):
        raise ValueError("a number is larger than its kind holds")
    return values.astype(kind)
