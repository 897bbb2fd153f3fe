"""Shapes going out by themselves: as meshes whose points are moved."""

from __future__ import annotations

import io
import zipfile

import numpy as np

from ..character import Character
from ..formats import obj
from ..shapes import moves_of
from .baking import scene_of

WHEN = (2000, 1, 1, 0, 0, 0)  # one date for all: equal shapes make equal files


def shape_mesh(character: Character, name: str) -> bytes:
    """An .obj of the mesh with a shape wholly on: polygons, parts and point order kept.  Raises NotFound."""
    moved = np.asarray(character.points + moves_of(character, name))
    return obj.write(scene_of(character.with_(arrays={"points": moved}, clips=())))


def shape_meshes(character: Character) -> bytes:
    """A .zip with an .obj of the mesh at rest and of every shape."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        pack.writestr(zipfile.ZipInfo("rest.obj", WHEN), obj.write(scene_of(character.with_(clips=()))))
        for shape in character.shapes:
            pack.writestr(zipfile.ZipInfo(f"{shape.name}.obj", WHEN), shape_mesh(character, shape.name))
    return out.getvalue()
