"""The character: one immutable value that holds everything a rigger makes."""

from .arrays import Arrays, content_hash
from .model import (
    Channel,
    Character,
    Control,
    Inputs,
    Joint,
    Kit,
    Part,
    SavedPose,
    Shape,
    Side,
    Skin,
    opposite,
    opposite_name,
    unique_name,
)

__all__ = [
    "Arrays",
    "Channel",
    "Character",
    "Control",
    "Inputs",
    "Joint",
    "Kit",
    "Part",
    "SavedPose",
    "Shape",
    "Side",
    "Skin",
    "content_hash",
    "opposite",
    "opposite_name",
    "unique_name",
]
