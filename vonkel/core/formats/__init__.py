"""Open formats in and out, one module each."""

from __future__ import annotations

from pathlib import PurePath

from ..character import Character
from ..errors import BadFile, TooLarge
from ..tolerances import MAX_FILE_BYTES
from .mesh import RawMesh, character_from_mesh

READS = (".obj", ".ply", ".glb", ".gltf", ".svg")

__all__ = ["READS", "RawMesh", "character_from_mesh", "read_character", "read_mesh"]


def read_mesh(name: str, data: bytes) -> RawMesh:
    """Read a mesh file by its ending.  Raises BadFile or TooLarge with what, where and what to do."""
    from . import gltf, obj, ply, svg

    if len(data) > MAX_FILE_BYTES:
        raise TooLarge(f"{name} is larger than {MAX_FILE_BYTES // 2**20} MB.", name, "Bring in a lighter mesh.")
    ending = PurePath(name).suffix.lower()
    if not data:
        raise BadFile(f"{name} is empty.", name, "Export it again.")
    if ending == ".obj":
        return obj.read(name, data)
    if ending == ".ply":
        return ply.read(name, data)
    if ending in (".glb", ".gltf"):
        return gltf.read_mesh(name, data)
    if ending == ".svg":
        return svg.read(name, data)
    raise BadFile(f"Vonkel can't read “{ending or name}” files.", name, f"Bring in one of: {', '.join(READS)}.")


def read_character(name: str, data: bytes, called: str = "") -> Character:
    """A new character from a mesh file; a rigged .glb that Vonkel wrote comes back with joints, skin and shapes."""
    from . import gltf

    called = (called or PurePath(name).stem or "unnamed")[:80]
    if PurePath(name).suffix.lower() == ".glb":
        rigged = gltf.read_rigged(name, data, called)
        if rigged is not None:
            return rigged
    return character_from_mesh(read_mesh(name, data), called, where=name)
