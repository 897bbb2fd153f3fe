"""Patches of the skin that one bone owns, and which of them are islands."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..compiled import compiled


@compiled
def patches(rows: np.ndarray, cols: np.ndarray, piece: np.ndarray, area: np.ndarray, owner: np.ndarray) -> Any:
    """Patches of one owner (n,): patch (n,) the one that each point is in, size (k,) their areas, and largest (k,) the largest of the
    same owner within its piece of the mesh."""
    n = len(owner)
    patch, todo = np.full(n, -1), np.empty(n, np.int64)
    size, first = np.zeros(n), np.empty(n, np.int64)
    count = 0
    for start in range(n):
        if patch[start] >= 0:
            continue
        patch[start], first[count], todo[0], left = count, start, start, 1
        while left > 0:
            left -= 1
            i = todo[left]
            size[count] += area[i]
            for e in range(rows[i], rows[i + 1]):
                j = cols[e]
                if patch[j] < 0 and owner[j] == owner[start]:
                    patch[j], todo[left] = count, j
                    left += 1
        count += 1
    owners = owner.max() + 1 if n else 1
    best = np.full(owners * (piece.max() + 1 if n else 1), -1)
    for k in range(count):
        of = piece[first[k]] * owners + owner[first[k]]
        if best[of] < 0 or size[k] > size[best[of]]:
            best[of] = k
    largest = np.empty(count, np.int64)
    for k in range(count):
        largest[k] = best[piece[first[k]] * owners + owner[first[k]]]
    return patch, size[:count], largest


@compiled
def islands(rows: np.ndarray, cols: np.ndarray, piece: np.ndarray, area: np.ndarray, owner: np.ndarray) -> np.ndarray:
    """(n,) bool: points in patches of one owner (n,) that are not its largest, by area (n,), within their piece (n,) of the mesh.

    By how many points they have, a mesh that is denser in one place would choose another patch.
    """
    patch, _, largest = patches(rows, cols, piece, area, owner)
    out = np.empty(len(owner), np.bool_)
    for i in range(len(owner)):
        out[i] = largest[patch[i]] != patch[i]
    return out
