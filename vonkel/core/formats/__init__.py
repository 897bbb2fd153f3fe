"""Open formats in and out, one module each."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Mapping
from pathlib import PurePath

from ..character import Character
from ..character.words import clean_name
from ..errors import BadFile, TooLarge
from ..motion.capture import Capture
from ..soundness import unsound
from ..tolerances import MAX_FILE_BYTES
from . import gltf
from .mesh import RawMesh, character_from_mesh
from .reading import reading
from .registry import FORMATS, Format

MOST_IN_ZIP = 2_000

__all__ = [
    "FORMATS",
    "Format",
    "RawMesh",
    "character_from_mesh",
    "read_character",
    "read_mesh",
    "read_motion",
    "reads",
    "together",
]


def reads() -> tuple[str, ...]:
    """The endings of files that can be brought in."""
    return tuple(e for e, f in FORMATS.items() if f.read)


def together(files: Mapping[str, bytes]) -> tuple[str, bytes, dict[str, bytes]]:
    """Of files that were given together, the one to read and those beside it.

    A .gltf comes before all others, since it names its own.  Raises BadFile where none of them, or several, could be meant.
    """
    for endings in ((".gltf",), reads()):
        found = [n for n in files if PurePath(n).suffix.lower() in endings and not PurePath(n).name.startswith(".")]
        if len(found) > 1:
            raise BadFile(
                "There are several meshes.", ", ".join(sorted(found)[:4]), "Bring them in one after the other."
            )
        if found:
            others = {PurePath(n.replace("\\", "/")).name: d for n, d in files.items() if n != found[0]}
            return PurePath(found[0].replace("\\", "/")).name, files[found[0]], others
    if len(files) == 1:
        name = next(iter(files))
        return name, files[name], {}
    raise BadFile("None of these files is a mesh.", ", ".join(sorted(files)[:4]), f"Vonkel reads {', '.join(reads())}.")


def _unzipped(name: str, data: bytes) -> tuple[str, bytes, dict[str, bytes]]:
    """The mesh of a ZIP and what lies beside it there."""
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        listed = [i for i in z.infolist() if not i.is_dir() and "__MACOSX" not in i.filename]
        if sum(i.file_size for i in listed) > 4 * MAX_FILE_BYTES or len(listed) > MOST_IN_ZIP:
            raise TooLarge("The ZIP unpacks to more than Vonkel takes.", name, "Bring in a lighter mesh.")
        return together({i.filename: z.read(i) for i in listed})


def read_mesh(name: str, data: bytes, beside: Mapping[str, bytes] | None = None) -> RawMesh:
    """Read a mesh file by its ending; `beside`: files that it may name, by name.

    A ZIP is read as the mesh that is in it.  Raises BadFile or TooLarge with what, where and what to do.
    """
    if len(data) > MAX_FILE_BYTES:
        raise TooLarge(f"{name} is larger than {MAX_FILE_BYTES // 2**20} MB.", name, "Bring in a lighter mesh.")
    ending = PurePath(name).suffix.lower()
    if not data:
        raise BadFile(f"{name} is empty.", name, "Export it again.")
    with reading(name):
        if ending == ".zip":
            name, data, beside = _unzipped(name, data)
            ending = PurePath(name).suffix.lower()
        form = FORMATS.get(ending)
        if form is not None and form.read is not None:
            return form.read(name, data, beside or {})
    raise BadFile(f"Vonkel can't read “{ending or name}” files.", name, f"Bring in one of: {', '.join(reads())}.")


def read_motion(name: str, data: bytes, beside: Mapping[str, bytes] | None = None) -> Capture:
    """The motion in a file, of whatever skeleton, by its ending.  Raises BadFile or TooLarge."""
    if len(data) > MAX_FILE_BYTES:
        raise TooLarge(f"{name} is larger than {MAX_FILE_BYTES // 2**20} MB.", name, "Cut it into shorter motions.")
    form = FORMATS.get(PurePath(name).suffix.lower())
    if form is None or form.motion is None:
        known = ", ".join(e for e, f in FORMATS.items() if f.motion)
        raise BadFile(f"Vonkel reads no motion from {name}.", name, f"Bring in one of: {known}.")
    return form.motion(name, data, beside or {})


def read_character(
    name: str, data: bytes, called: str = "", beside: Mapping[str, bytes] | None = None
) -> Character:  # fmt: skip
    """A new character from a mesh file; a rigged .glb that Vonkel wrote comes back with joints, skin and shapes."""
    called = clean_name(called) or clean_name(PurePath(name).stem) or "unnamed"
    with reading(name):
        made = gltf.read_rigged(name, data, called) if PurePath(name).suffix.lower() == ".glb" and data else None
        if made is None:
            made = character_from_mesh(read_mesh(name, data, beside), called, where=name)
        fault = unsound(made)
    if fault:
        raise BadFile(f"What is in it doesn't fit together: {fault}.", name, "Mend it and export it again.")
    return made
