"""Many shapes on at once: rest points moved by all of them, each by its strength."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from scipy.sparse import csr_matrix

from . import kernels

LARGEST = 16_000_000  # numbers of a plain table, 64 MB; what is larger is kept without its zeros


class Shapes:
    """Shapes by name: points (m,) and moves (m, 3) float32 of each.

    What they move is one table, a row for each shape: a product of it is several times faster than shape after shape.
    """

    def __init__(self, shapes: Mapping[str, tuple[np.ndarray, np.ndarray]], count: int) -> None:
        self.names: Sequence[str] = list(shapes)
        moved = np.zeros(count, bool)
        for index, _ in shapes.values():
            moved[index] = True
        self.at = np.flatnonzero(moved)
        number = np.cumsum(moved) - 1
        size = len(self.names) * 3 * len(self.at)
        self.table: np.ndarray | csr_matrix
        if size <= LARGEST:
            table = np.zeros((len(self.names), len(self.at), 3), np.float32)
            for k, (index, moves) in enumerate(shapes.values()):
                table[k, number[index]] = moves
            self.table = table.reshape(len(self.names), 3 * len(self.at))
        else:
            rows = np.repeat(np.arange(len(self.names)), [3 * len(i) for i, _ in shapes.values()])
            columns = np.concatenate([(3 * number[i][:, None] + np.arange(3)).ravel() for i, _ in shapes.values()])
            flat = np.concatenate([m.ravel() for _, m in shapes.values()])
            self.table = csr_matrix((flat, (rows, columns)), (len(self.names), 3 * len(self.at)), np.float32)

    def on(self, strengths: Mapping[str, float], without: Mapping[str, object]) -> np.ndarray:
        """(s,) float32: how strong each is; nothing for those left out."""
        return np.array([0.0 if n in without else strengths.get(n, 0.0) for n in self.names], np.float32)

    def put(self, rest: np.ndarray, on: np.ndarray, out: np.ndarray) -> None:
        """Points that shapes move, of out (n, 3), as they are at rest (n, 3) and moved by strengths (s,)."""
        strong = np.flatnonzero(on)
        few = len(strong) < 0.5 * len(on)
        moves = on[strong] @ self.table[strong] if few else on @ self.table
        kernels.moved(rest, self.at, np.asarray(moves).reshape(-1, 3), out)
