"""Damage: bytes flipped, cut, repeated and swapped; numbers in text made absurd; JSON inside made to say other things."""

from __future__ import annotations

import io
import json
import struct
import zipfile
from typing import Any

import numpy as np

NUMBERS = (
    b"0", b"-1", b"1e999", b"nan", b"inf", b"-0", b"65536", b"99999999999", b"1e-320", b"4294967296", b"18446744073709551616",
    b"1.5", b"", b"x", b"999999",
)  # fmt: skip
VALUES: tuple[Any, ...] = (
    None, True, -1, 0, 7, 2**31, 2**64, 1e308, "", "x", "a/b", "\ud800", [], [[]], {}, {"a": 1}, 1.5, [1, 2, 3], "joint:nobody",
)  # fmt: skip


def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """A damaged copy; which damage is done follows from `rng` alone."""
    kind = int(rng.integers(6))
    if kind == 0 and (text := _inside(data)) is not None:
        return text(rng)
    if kind == 1 and (found := _number_runs(data)):
        low, high = found[int(rng.integers(len(found)))]
        return data[:low] + NUMBERS[int(rng.integers(len(NUMBERS)))] + data[high:]
    out = bytearray(data)
    for _ in range(int(rng.integers(1, 5))):
        if not out:
            break
        at = int(rng.integers(len(out)))
        if kind == 2:
            del out[at : at + int(rng.integers(1, 40))]
        elif kind == 3:
            out[at:at] = out[max(0, at - int(rng.integers(1, 60))) : at]
        elif kind == 4:
            del out[at:]
        else:
            out[at] = int(rng.integers(256))
    return bytes(out)


def _number_runs(data: bytes) -> list[tuple[int, int]]:
    """Where numbers stand in the text at the beginning of a file."""
    head, runs, at = data[:6000], [], 0
    while at < len(head):
        if head[at : at + 1] in b"0123456789-." and head[at : at + 1]:
            end = at
            while end < len(head) and head[end : end + 1] in b"0123456789-.e":
                end += 1
            runs.append((at, end))
            at = end
        at += 1
    return runs


def _inside(data: bytes):  # type: ignore[no-untyped-def]
    """A way to change the JSON that a file is or holds; None where it has none."""
    if data[:4] == b"glTF":
        size = struct.unpack_from("<I", data, 12)[0]

        def glb(rng: np.random.Generator) -> bytes:
            text = changed(data[20 : 20 + size], rng)
            text += b" " * (-len(text) % 4)
            rest = data[20 + size :]
            return struct.pack("<III", 0x46546C67, 2, 20 + len(text) + len(rest)) + struct.pack("<II", len(text), 0x4E4F534A) + text + rest  # fmt: skip

        return glb
    if data[:2] == b"PK":

        def archive(rng: np.random.Generator) -> bytes:
            out = io.BytesIO()
            with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
                names = old.namelist()
                hit = names[int(rng.integers(len(names)))] if rng.random() < 0.3 else "character.json"
                for name in names:
                    body = old.read(name)
                    if name == hit:
                        body = changed(body, rng) if name.endswith(".json") else flipped(body, rng)
                    new.writestr(name, body)
            return out.getvalue()

        return archive
    if data[:1] in (b"{", b"["):
        return lambda rng: changed(data, rng)
    return None


def flipped(data: bytes, rng: np.random.Generator) -> bytes:
    out = bytearray(data)
    if out:
        out[int(rng.integers(len(out)))] ^= 1 << int(rng.integers(8))
    return bytes(out)


def changed(text: bytes, rng: np.random.Generator) -> bytes:
    """JSON with one to three of its values put in place of others, dropped or doubled."""
    tree = json.loads(text)
    for _ in range(int(rng.integers(1, 4))):
        places: list[tuple[Any, Any]] = []
        _walk(tree, places)
        if not places:
            break
        holder, key = places[int(rng.integers(len(places)))]
        do = int(rng.integers(4))
        if do == 0:
            del holder[key]
        elif do == 1 and isinstance(holder, list):
            holder.append(holder[key])
        elif do == 2 and isinstance(holder[key], (int, float)) and not isinstance(holder[key], bool):
            holder[key] = (holder[key] + 1, -holder[key], holder[key] * 1000, 0)[int(rng.integers(4))]
        else:
            holder[key] = VALUES[int(rng.integers(len(VALUES)))]
    return json.dumps(tree).encode("utf-8", "replace")


def _walk(value: Any, places: list[tuple[Any, Any]]) -> None:
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, v in list(items):
        places.append((value, key))
        _walk(v, places)
