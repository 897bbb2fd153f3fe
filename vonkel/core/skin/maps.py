"""What can be shown of a skin over the whole mesh: everybody's reach at once, how many hold a point, where holds jump."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ..character import Character
from ..derived import derived
from ..geometry.topology import topology_of
from ..weights import table_of

# Muted inks that stay apart for every kind of colour sight, light and dark in turn.
INKS = np.array(
    [
        (46, 94, 122), (222, 168, 92), (120, 150, 96), (158, 84, 72), (172, 190, 208), (98, 72, 118), (226, 210, 170),
        (72, 128, 120), (202, 130, 138), (108, 96, 64), (150, 168, 148), (64, 68, 92),
    ],
    float,
)  # fmt: skip
TOUCH = 0.05  # joints that both hold a point by more than this have different inks


@derived("skin", "skin/joints", "skin/weights", most=4)
def inks_of(character: Character) -> tuple[tuple[int, int, int], ...]:
    """An ink for each holder, in the skin's order, sRGB 0–255: of joints that share skin none has another's."""
    assert character.skin
    held = table_of(character).held
    strong = csr_matrix(held > TOUCH).astype(np.int32)
    beside = (strong.T @ strong).tolil()
    chosen: list[int] = []
    for j in range(len(character.skin.joints)):
        taken = {chosen[k] for k in beside.rows[j] if k < j}
        free = [i for i in range(len(INKS)) if i not in taken] or [j % len(INKS)]
        used = [chosen.count(i) for i in free]
        chosen.append(free[int(np.argmin(used))])
    return tuple((int(r), int(g), int(b)) for r, g, b in INKS[chosen])


def colours_of(character: Character) -> np.ndarray:
    """(n, 3) uint8: every point in the inks of its holders, mixed by their weights."""
    mixed = table_of(character).held @ np.array(inks_of(character), float)
    return np.asarray(np.clip(np.rint(mixed), 0, 255).astype(np.uint8))


def counts_of(character: Character) -> np.ndarray:
    """(n,) float32: how many joints hold each point."""
    return np.asarray((character.arrays["skin/weights"] > 0).sum(1), np.float32)


def jumps_of(character: Character) -> np.ndarray:
    """(n,) float32: the largest difference of one joint's weight between a point and one that it shares an edge with."""
    held, edges = table_of(character).held, topology_of(character).edges
    out = np.zeros(len(character.points), np.float32)
    if len(edges):
        step = np.asarray(abs(held[edges[:, 0]] - held[edges[:, 1]]).max(1).todense()).ravel().astype(np.float32)
        np.maximum.at(out, edges[:, 0], step)
        np.maximum.at(out, edges[:, 1], step)
    return out
