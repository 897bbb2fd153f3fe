"""Files on a disk, and those that lie beside one and may be named in it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from ..errors import BadFile


def file_bytes(path: Path) -> bytes:
    """A file's bytes.  Raises BadFile where it can't be read."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise BadFile(f"{path} can't be read: {error.strerror}.", "", "May this user read it?") from None


class Beside(Mapping[str, bytes]):
    """The files beside one, by name, read when they are asked for."""

    def __init__(self, path: Path) -> None:
        self.folder = path.parent

    def __getitem__(self, name: str) -> bytes:
        if name not in self:
            raise KeyError(name)
        return file_bytes(self.folder / Path(name).name)

    def __contains__(self, name: object) -> bool:
        return (self.folder / Path(str(name)).name).is_file()

    def __iter__(self) -> Iterator[str]:
        return (p.name for p in self.folder.iterdir() if p.is_file())

    def __len__(self) -> int:
        return sum(1 for _ in self)
