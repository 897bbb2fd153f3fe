"""The container of glTF 2.0: binary chunks, buffers and accessors, read with every claim checked."""

from __future__ import annotations

import base64
import json
import struct
from collections.abc import Mapping
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import unquote

import numpy as np

from ..errors import BadFile
from ..tolerances import MAX_CORNERS
from .reading import claim, on_time

COMPONENTS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
GLB_MAGIC, JSON_CHUNK, BIN_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942


POINT = "_POINT"  # an attribute of our own: which point of its part each row is (3.7.2.1 allows such names, not uint32)


class Tree:
    """A parsed file: `json` and its buffers.  Every look-up that fails raises BadFile.

    `beside`: the files that were given with it, by name.
    """

    def __init__(self, name: str, data: bytes, beside: Mapping[str, bytes] | None = None) -> None:
        self.name = name
        self.beside = beside or {}
        blob = b""
        if data[:4] == b"glTF":
            text, blob = _chunks(name, data)
        elif name.lower().endswith(".glb"):
            raise BadFile(f"{name} doesn't begin as a .glb file does.", name, "Check the file's ending.")
        else:
            text = data
        try:
            self.json: dict[str, Any] = json.loads(text)
        except (ValueError, RecursionError):
            raise BadFile("Its description is not JSON.", name, "Export it again.") from None
        if not isinstance(self.json, dict) or not isinstance(self.json.get("asset"), dict):
            raise BadFile("It doesn't say which glTF it is.", name, "Export it as glTF 2.0.")
        if str(self.json["asset"].get("version", "")).split(".")[0] != "2":
            raise BadFile("It isn't glTF 2.0.", name, "Export it as glTF 2.0.")
        needed = {str(e) for e in self.list("extensionsRequired")} - {
            "KHR_materials_unlit",
            "KHR_texture_transform",
            "KHR_mesh_quantization",
        }
        if needed:
            raise BadFile(f"It needs the extension {min(needed)}.", name, "Export it without.")
        self.buffers = [self._buffer(i, b, blob) for i, b in enumerate(self.list("buffers"))]

    def list(self, key: str) -> list[Any]:
        found = self.json.get(key, [])
        if not isinstance(found, list):
            raise BadFile(f"“{key}” is not a list.", self.name, "Export it again.")
        return found

    def get(self, key: str, index: Any) -> dict[str, Any]:
        items = self.list(key)
        if not isinstance(index, int) or not 0 <= index < len(items) or not isinstance(items[index], dict):
            raise BadFile(f"It names {key} {index}, which isn't there.", self.name, "Export it again.")
        found: dict[str, Any] = items[index]
        return found

    def _buffer(self, index: int, buffer: Any, blob: bytes) -> bytes:
        if not isinstance(buffer, dict):
            raise BadFile(f"Buffer {index} is out of order.", self.name, "Export it again.")
        uri = buffer.get("uri")
        found = self.named(uri, f"Buffer {index}") if uri is not None else blob if index == 0 else b""
        if len(found) < _int(buffer.get("byteLength", 0)):
            raise BadFile(
                f"Buffer {index} claims {_int(buffer['byteLength']):,} bytes, but {len(found):,} are there.",
                self.name, "The file is cut short: copy or export it again.",
            )  # fmt: skip
        return found

    def named(self, uri: Any, what: str) -> bytes:
        """The bytes that a URI names: inside it, or in a file beside this one."""
        if not isinstance(uri, str):
            raise BadFile(f"{what} names no file.", self.name, "Export it again.")
        if uri.startswith("data:") and "," in uri:
            try:
                return base64.b64decode(uri.split(",", 1)[1])
            except ValueError:
                raise BadFile(f"{what} can't be decoded.", self.name, "Export it as .glb.") from None
        wanted = PurePosixPath(unquote(uri)).name
        if wanted not in self.beside:
            raise BadFile(
                f"It keeps its data in another file, “{wanted[:80]}”.", self.name,
                "Choose or drop both together, put them into one ZIP, or export it as one .glb.",
            )  # fmt: skip
        return self.beside[wanted]

    def accessor(self, index: Any) -> np.ndarray:
        """(count, width) or (count,) array; normalised integers become floats as the standard says (3.6.2.2)."""
        a = self.get("accessors", index)
        count, width = _int(a.get("count", 0)), WIDTHS.get(a.get("type", ""), 0)
        dtype = COMPONENTS.get(a.get("componentType", 0))
        if dtype is None or not width or not 0 <= count <= MAX_CORNERS:
            raise BadFile(
                f"Accessor {index} is of a kind that isn't known, or too long.", self.name, "Export it again."
            )
        on_time()
        claim(count * width * np.dtype(dtype).itemsize, f"Accessor {index}")
        if "bufferView" not in a and count > self._room():
            raise BadFile(f"Accessor {index} claims {count:,} rows without data.", self.name, "Export it again.")
        if "sparse" in a:
            base = (
                np.zeros((count, width), dtype) if "bufferView" not in a else self._dense(a, count, width, dtype).copy()
            )
            self._sparse(a["sparse"], base, dtype, width)
            out = base
        elif "bufferView" in a:
            out = self._dense(a, count, width, dtype)
        else:
            out = np.zeros((count, width), dtype)  # rows without data are zeros (3.6.2.1)
        if a.get("normalized") and out.dtype.kind in "iu":
            out = np.maximum(out.astype(np.float32) / np.iinfo(out.dtype).max, -1.0)
        return out[:, 0] if width == 1 else out

    def _room(self) -> int:
        """How many rows may be zeros for want of data: a few thousand, or as many as the file has bytes."""
        return max(4096, sum(len(b) for b in self.buffers))

    def rows(self, index: Any, *widths: int) -> np.ndarray:
        """(count, width) of an accessor whose rows must have one of these widths.  Raises BadFile for others."""
        found = self.accessor(index)
        if found.ndim != 2 or found.shape[1] not in widths:
            raise BadFile(f"Accessor {index} has rows of another kind than is wanted.", self.name, "Export it again.")
        return found

    def view_bytes(self, index: Any) -> bytes:
        """The bytes of a buffer view, as of a picture."""
        view = self.get("bufferViews", index)
        start, length = _int(view.get("byteOffset", 0)), _int(view.get("byteLength", 0))
        return bytes(self._view(view, 0, length, 1, "u1").ravel()) if start >= 0 and length else b""

    def _dense(self, a: dict[str, Any], count: int, width: int, dtype: str) -> np.ndarray:
        view = self.get("bufferViews", a.get("bufferView"))
        return self._view(view, _int(a.get("byteOffset", 0)), count, width, dtype)

    def _view(self, view: dict[str, Any], offset: int, count: int, width: int, dtype: str) -> np.ndarray:
        size = np.dtype(dtype).itemsize * width
        stride = _int(view.get("byteStride", size)) if count > 1 else size
        buffer = view.get("buffer")
        start = _int(view.get("byteOffset", 0)) + offset
        if not isinstance(buffer, int) or not 0 <= buffer < len(self.buffers) or stride < size:
            raise BadFile("A buffer view is out of order.", self.name, "Export it again.")
        data = self.buffers[buffer]
        if start < 0 or offset < 0 or (count and start + (count - 1) * stride + size > len(data)):
            raise BadFile("Its data ends before the meshes do.", self.name, "The file is cut short: export it again.")
        if stride == size:
            return np.frombuffer(data, dtype, count * width, start).reshape(count, width)
        raw = np.lib.stride_tricks.as_strided(np.frombuffer(data, "u1", offset=start), (count, size), (stride, 1))
        return np.ascontiguousarray(raw).view(dtype)

    def _sparse(self, sparse: Any, base: np.ndarray, dtype: str, width: int) -> None:
        n = _int(sparse.get("count", 0))
        at, values = sparse.get("indices", {}), sparse.get("values", {})
        kind = COMPONENTS.get(at.get("componentType", 0))
        if kind is None or not 0 <= n <= len(base):
            raise BadFile("A sparse accessor is out of order.", self.name, "Export it again.")
        index = self._view(self.get("bufferViews", at.get("bufferView")), _int(at.get("byteOffset", 0)), n, 1, kind)[
            :, 0
        ]
        if n and index.max() >= len(base):
            raise BadFile("A sparse accessor names a point that isn't there.", self.name, "Export it again.")
        where = self.get("bufferViews", values.get("bufferView"))
        base[index] = self._view(where, _int(values.get("byteOffset", 0)), n, width, dtype)


def _int(value: Any) -> int:
    ok = isinstance(value, int) and not isinstance(value, bool) and abs(value) < 2**53
    return value if ok else -1


def _chunks(name: str, data: bytes) -> tuple[bytes, bytes]:
    if len(data) < 20:
        raise BadFile(f"{name} is cut short.", name, "Copy or export it again.")
    _, version, total = struct.unpack_from("<III", data)
    if version != 2:
        raise BadFile(f"It is .glb version {version}.", name, "Export it as glTF 2.0.")
    if total > len(data):
        raise BadFile(
            f"Its header claims {total:,} bytes, but {len(data):,} are there.", name,
            "The file is cut short: copy or export it again.",
        )  # fmt: skip
    at, text, blob = 12, b"", b""
    while at + 8 <= total:
        size, kind = struct.unpack_from("<II", data, at)
        if at + 8 + size > total:
            raise BadFile(f"A chunk claims {size:,} bytes, more than are there.", name, "Copy or export it again.")
        body = data[at + 8 : at + 8 + size]
        if kind == JSON_CHUNK and not text:
            text = body
        elif kind == BIN_CHUNK and not blob:
            blob = body
        at += 8 + size
    return text, blob


class Writer:
    """Collects accessors into one buffer and writes a .glb."""

    def __init__(self) -> None:
        self.blob = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def view(self, data: bytes, target: int | None = None) -> int:
        self.blob += b"\0" * (-len(self.blob) % 4)
        entry: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.blob), "byteLength": len(data)}
        if target:
            entry["target"] = target
        self.blob += data
        self.views.append(entry)
        return len(self.views) - 1

    def add(
        self, array: np.ndarray, kind: str, target: int | None = None, bounds: bool = False, normalized: bool = False
    ) -> int:
        array = np.ascontiguousarray(array)
        code = {np.dtype(v): k for k, v in COMPONENTS.items()}[
            array.dtype.newbyteorder("<") if array.itemsize > 1 else array.dtype
        ]
        entry: dict[str, Any] = {
            "bufferView": self.view(array.tobytes(), target), "componentType": code, "count": len(array), "type": kind,
        }  # fmt: skip
        if bounds:
            flat = array.reshape(len(array), -1)
            entry["min"], entry["max"] = flat.min(0).tolist(), flat.max(0).tolist()
        if normalized:
            entry["normalized"] = True
        self.accessors.append(entry)
        return len(self.accessors) - 1

    def glb(self, tree: dict[str, Any]) -> bytes:
        self.blob += b"\0" * (-len(self.blob) % 4)
        tree = {
            **tree,
            "buffers": [{"byteLength": len(self.blob)}],
            "bufferViews": self.views,
            "accessors": self.accessors,
        }
        text = json.dumps(tree, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()
        text += b" " * (-len(text) % 4)
        total = 12 + 8 + len(text) + 8 + len(self.blob)
        return (
            struct.pack("<III", GLB_MAGIC, 2, total)
            + struct.pack("<II", len(text), JSON_CHUNK) + text
            + struct.pack("<II", len(self.blob), BIN_CHUNK) + bytes(self.blob)
        )  # fmt: skip
