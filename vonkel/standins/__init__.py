"""Small simulated stand-ins for outside devices: a capture suit and a face camera that stream over a local socket."""

from .performers import FACE_PORT, SUIT_PORT, face_lines, suit_lines
from .serving import Stage, serve

__all__ = ["FACE_PORT", "SUIT_PORT", "Stage", "face_lines", "serve", "suit_lines"]
