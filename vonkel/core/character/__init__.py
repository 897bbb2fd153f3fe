"""The character: one immutable value that holds everything a rigger makes."""

from .arrays import Arrays, content_hash
from .model import (
    REST_TURN,
    Channel,
    Character,
    Control,
    Freedom,
    Inputs,
    Joint,
    Kit,
    Part,
    Picture,
    SavedPose,
    Shape,
    Side,
    Skin,
    opposite,
    opposite_name,
    unique_name,
)

__all__ = [
    "REST_TURN",
    "Arrays",
    "Channel",
    "Character",
    "Control",
    "Freedom",
    "Inputs",
    "Joint",
    "Kit",
    "Part",
    "Picture",
    "SavedPose",
    "Shape",
    "Side",
    "Skin",
    "content_hash",
    "opposite",
    "opposite_name",
    "unique_name",
]
