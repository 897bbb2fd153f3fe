"""What a picture file is, and how large: PNG and JPEG."""

from __future__ import annotations

import io
import struct

from PIL.JpegImagePlugin import JpegImageFile
from PIL.PngImagePlugin import PngImageFile

from ..errors import BadFile, TooLarge
from ..tolerances import MAX_PICTURE_BYTES, MAX_PICTURE_SIDE


def picture_kind(data: bytes) -> str:
    """“png”, “jpeg”, or nothing for anything else."""
    if data[:8] == b"\x89PNG\r\n\x1a\n":
        return "png"
    return "jpeg" if data[:3] == b"\xff\xd8\xff" else ""


def picture_size(data: bytes, where: str) -> tuple[int, int]:
    """Width and height in pixels.  Raises BadFile for what is no PNG or JPEG, TooLarge for one that is too large.

    Only the head is read: nothing is unpacked.
    """
    if len(data) > MAX_PICTURE_BYTES:
        raise TooLarge(f"The picture is larger than {MAX_PICTURE_BYTES // 2**20} MB.", where, "Make it smaller.")
    reader = {"png": PngImageFile, "jpeg": JpegImageFile}.get(picture_kind(data))
    wide = high = 0
    try:
        if reader is not None:
            wide, high = reader(io.BytesIO(data)).size
    except (OSError, ValueError, SyntaxError, IndexError, struct.error):
        pass  # it only begins like one
    if not wide or not high:
        raise BadFile("That is no PNG or JPEG picture.", where, "Save it as PNG or JPEG.")
    if max(wide, high) > MAX_PICTURE_SIDE:
        raise TooLarge(f"The picture is {wide} × {high} pixels.", where, f"{MAX_PICTURE_SIDE} a side at most.")
    return wide, high
