"""What belongs to faces: eyeballs found and measured."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character, Side
from ..geometry.spheres import fit_sphere


@dataclass(frozen=True)
class EyeSphere:
    """An eyeball: its part, fitted centre (3,) and radius in metres, and the misfit as a share of the radius."""

    part: str
    side: Side
    centre: np.ndarray
    radius: float
    misfit: float


def eye_spheres(character: Character) -> list[EyeSphere]:
    """The fitted sphere of every part that is an eye, left first."""
    found = []
    for part in character.parts:
        if part.role == "eye" and part.points[1] - part.points[0] >= 4:
            centre, radius, misfit = fit_sphere(character.points[part.points[0] : part.points[1]])
            near = abs(centre[0]) < 0.005 * character.size
            side: Side = "C" if near else "L" if centre[0] > 0 else "R"
            found.append(EyeSphere(part.name, side, centre, radius, misfit / max(radius, 1e-9)))
    return sorted(found, key=lambda e: -e.centre[0])
