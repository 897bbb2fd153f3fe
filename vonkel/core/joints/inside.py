"""The body as a volume that joints lie in."""

from __future__ import annotations

import numpy as np

from ..character import Character, Joint
from ..derived import derived
from ..geometry.topology import skin_triangles
from ..geometry.voxels import POCKET, Solid, solid_from_mesh, without_pockets


@derived("points", "face_starts", "face_corners", "parts", most=4)
def body_solid(character: Character, cells: int = 120) -> Solid:
    """The filled skin parts, cells symmetric about x = 0; kept for the last few meshes."""
    h = character.size / cells
    low, high = character.points.min(0) - 2 * h, character.points.max(0) + 2 * h
    half = np.ceil(max(-low[0], high[0]) / h) * h
    low[0], high[0] = -half, half
    solid = solid_from_mesh(character.points, skin_triangles(character), h, (low, high))
    return without_pockets(solid, POCKET * character.size)


def may_stick_out(character: Character, joint: Joint) -> bool:
    """End joints and control joints may lie outside the body, and a tongue's, which lie in the mouth; others with children may not."""
    return not joint.deforms or not character.children.get(joint.name) or joint.role.startswith("tongue")


def kept_inside(character: Character, joint: Joint, place: np.ndarray) -> np.ndarray:
    """The place, or for a deforming joint outside the body the nearest place inside it."""
    if may_stick_out(character, joint) or joint.role == "eye" or not len(character.points):
        return place
    return inside_body(character, place)


def inside_body(character: Character, place: np.ndarray, cells: int = 120) -> np.ndarray:
    """The place (3,) metres, or where that lies outside the body the nearest place inside it."""
    solid = body_solid(character, cells)
    return solid.kept(place) if len(solid.cells) else place
