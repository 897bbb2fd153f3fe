"""Bulk data by name, read-only, each known by the hash of its content."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterator, Mapping

import numpy as np


def content_hash(array: np.ndarray) -> str:
    """Hash of dtype, shape and bytes: 32 hex digits."""
    array = np.ascontiguousarray(array)
    head = f"{array.dtype.str}{array.shape}".encode()
    return hashlib.blake2b(array.tobytes(), digest_size=16, key=hashlib.sha256(head).digest()[:32]).hexdigest()


class Arrays(Mapping[str, np.ndarray]):
    """An immutable mapping name → read-only array.

    `with_` returns a changed copy that shares all untouched arrays, so that a step costs what it changes.
    Hashes are worked out once per array and handed on with it.
    """

    __slots__ = ("_items", "_hashes")

    def __init__(self, items: Mapping[str, np.ndarray] | None = None, hashes: dict[str, str] | None = None) -> None:
        self._items: dict[str, np.ndarray] = {}
        for name, array in (items or {}).items():
            if array.flags.writeable:
                array = array.copy()
                array.flags.writeable = False
            self._items[name] = array
        self._hashes = dict(hashes or {})

    def __getitem__(self, name: str) -> np.ndarray:
        return self._items[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._items)

    def __len__(self) -> int:
        return len(self._items)

    def hash_of(self, name: str) -> str:
        if name not in self._hashes:
            self._hashes[name] = content_hash(self._items[name])
        return self._hashes[name]

    def with_(self, **changes: np.ndarray | None) -> Arrays:
        """A copy with arrays set, or dropped where the value is None.  Names may hold any characters via **{…}."""
        items = {k: v for k, v in self._items.items() if k not in changes}
        hashes = {k: v for k, v in self._hashes.items() if k not in changes}
        items.update({k: v for k, v in changes.items() if v is not None})
        return Arrays(items, hashes)

    def only(self, names: Collection[str]) -> Arrays:
        """Those of these names that there are."""
        return Arrays(
            {n: self._items[n] for n in names if n in self._items},
            {n: h for n, h in self._hashes.items() if n in names},
        )

    def without_prefix(self, prefix: str) -> Arrays:
        return self.with_(**{k: None for k in self._items if k.startswith(prefix)})
