"""The formats there are.  A new one is a module that reads, or writes a scene, and a line in `FORMATS`."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from ..motion.capture import Capture
from . import bvh, bvh_read, gltf, gltf_motion, gltf_write, obj, ply, svg
from .mesh import RawMesh
from .scene import Scene

Read = Callable[[str, bytes, Mapping[str, bytes]], RawMesh]
"""(file name, its bytes, files beside it by name) → the mesh."""


@dataclass(frozen=True)
class Format:
    """`title` says what is in such a file; `read` and `write` are None where Vonkel does only the other; `motion` reads the
    motion of whatever skeleton is in it."""

    title: str
    media: str
    read: Read | None = None
    write: Callable[[Scene], bytes] | None = None
    motion: Callable[[str, bytes, Mapping[str, bytes]], Capture] | None = None
    renames: bool = False  # whether joints may be called otherwise in it


FORMATS: dict[str, Format] = {
    ".glb": Format(
        "the rig as one glTF file: mesh, joints, weights, shapes and motions", "model/gltf-binary",
        gltf.read_mesh, gltf_write.write, gltf_motion.read, renames=True,
    ),
    ".gltf": Format("glTF with its files beside it", "model/gltf+json", gltf.read_mesh, motion=gltf_motion.read),
    ".obj": Format(
        "the mesh at rest, polygons and point order kept", "text/plain", lambda name, data, beside: obj.read(name, data),
        obj.write,
    ),
    ".bvh": Format(
        "the skeleton with one motion, plain text", "text/plain", write=bvh.write,
        motion=lambda name, data, beside: bvh_read.read(name, data), renames=True,
    ),
    ".ply": Format("a mesh with colours", "application/octet-stream", lambda name, data, beside: ply.read(name, data)),
    ".svg": Format("a drawing: lines, filled shapes", "image/svg+xml", lambda name, data, beside: svg.read(name, data)),
}  # fmt: skip
