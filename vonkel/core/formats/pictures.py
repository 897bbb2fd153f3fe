"""What a picture file says of itself in its first bytes: PNG (ISO/IEC 15948) and JPEG (ISO/IEC 10918-1)."""

from __future__ import annotations

import struct

from ..errors import BadFile, TooLarge
from ..tolerances import MAX_PICTURE_BYTES, MAX_PICTURE_SIDE


def picture_kind(data: bytes) -> str:
    """“png”, “jpeg”, or nothing for anything else."""
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        return "png"
    return "jpeg" if data[:3] == b"\xff\xd8\xff" else ""


def picture_size(data: bytes, where: str) -> tuple[int, int]:
    """Width and height in pixels.  Raises BadFile for what is no PNG or JPEG, TooLarge for one that is too large."""
    if len(data) > MAX_PICTURE_BYTES:
        raise TooLarge(f"The picture is larger than {MAX_PICTURE_BYTES // 2**20} MB.", where, "Make it smaller.")
    size = None
    if picture_kind(data) == "png" and len(data) >= 24 and data[12:16] == b"IHDR":
        size = struct.unpack(">II", data[16:24])
    elif picture_kind(data) == "jpeg":
        size = _jpeg_size(data)
    if size is None or not all(size):
        raise BadFile("That is no PNG or JPEG picture.", where, "Save it as PNG or JPEG.")
    if max(size) > MAX_PICTURE_SIDE:
        raise TooLarge(f"The picture is {size[0]} × {size[1]} pixels.", where, f"{MAX_PICTURE_SIDE} a side at most.")
    return int(size[0]), int(size[1])


def _jpeg_size(data: bytes) -> tuple[int, int] | None:
    at = 2
    while at + 9 < len(data):
        if data[at] != 0xFF:
            return None
        marker = data[at + 1]
        if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC):
            high, wide = struct.unpack(">HH", data[at + 5 : at + 9])
            return wide, high
        at += 2 if marker == 0xFF else 2 + int(struct.unpack(">H", data[at + 2 : at + 4])[0])
    return None
