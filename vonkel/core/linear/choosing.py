"""Which joints between two others are worth having: those that take most off what linear blending misses by, one after another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Between, Character, opposite_name, unique_name
from ..compiled import compiled
from ..geometry.rotations import vector
from ..weights import WeightTable
from .solving import Problem, cost, settle

TOGETHER = 3.0  # the products of two joints' weights, summed: less isn't worth a joint
WORTH = 0.004  # of the first error: a step that takes less off is the last
STEPS = 120


@dataclass(frozen=True)
class Pairs:
    """Joints that might stand between two others, with each one's mirror image (its own number where it has none)."""

    between: tuple[Between, ...]
    twins: tuple[int, ...]


def pairs_of(character: Character, table: WeightTable) -> Pairs:
    """Between any two joints that hold points together, parent and child or not.

    Where one hangs from the other it turns about the lower one's place, else about the middle of what they hold together.
    """
    held = table.held
    both = (held.T @ held).tocoo()
    strong = [(int(a), int(b)) for a, b, v in zip(both.row, both.col, both.data, strict=True) if a < b and v > TOGETHER]
    names, dense = table.joints, held.toarray()
    taken, found = set(character.joint_index), dict[tuple[str, str], Between]()
    for i, k in strong:
        a, b = names[i], names[k]
        if character.joint(a).parent == b:
            a, b = b, a
        if character.joint(b).parent == a:
            place = character.joint(b).place
        else:
            share = dense[:, i] * dense[:, k]
            middle = (share[:, None] * character.points).sum(0) / share.sum()
            place = vector(middle)
        name = unique_name(_called(a, b), taken)
        taken.add(name)
        found[a, b] = Between(name=name, a=a, b=b, place=place)
    order = list(found)
    number = {p: i for i, p in enumerate(order)} | {(b, a): i for i, (a, b) in enumerate(order)}
    twins = tuple(number.get((opposite_name(a), opposite_name(b)), i) for i, (a, b) in enumerate(order))
    alike = tuple(t if twins[t] == i else i for i, t in enumerate(twins))
    return Pairs(tuple(found.values()), alike)


def _called(a: str, b: str) -> str:
    """The name of a joint between two, with its side at the end where both have one."""
    side = a[-2:] if a.endswith(("_L", "_R")) else b[-2:] if b.endswith(("_L", "_R")) else ""
    bare = [n[:-2] if n.endswith(("_L", "_R")) and (n[-2:] == side or not side) else n for n in (a, b)]
    return f"{bare[0][:34]} to {bare[1][:34]}{side}"


def chosen(problem: Problem, pairs: Pairs, first: int, most: int) -> list[int]:
    """Numbers of the pairs to have, in the order in which they were taken, mirror images together.

    problem: over some of the points, with every pair among their candidates, as joints from `first` on.
    """
    count = len(pairs.between)
    active = np.zeros(first + count, bool)
    active[:first] = True
    weights = problem.start.copy()
    weights[problem.candidates >= first] = 0.0
    weights /= np.maximum(weights.sum(1, keepdims=True), 1e-12)
    taken: list[int] = []
    begun = 0.0
    while len(taken) < min(most, count):
        gains = np.zeros(count)
        total = _gains(problem.misses, problem.candidates, weights, active, first, gains)
        begun = begun or total
        for i, t in enumerate(pairs.twins):
            if t > i:
                gains[i] = gains[t] = gains[i] + gains[t]
        gains[taken] = 0.0
        best = int(gains.argmax())
        both = sorted({best, pairs.twins[best]})
        if gains[best] < WORTH * begun or len(taken) + len(both) > most:
            break
        taken += both
        active[[first + k for k in both]] = True
    return taken


@compiled
def _gains(
    misses: np.ndarray, candidates: np.ndarray, weights: np.ndarray, active: np.ndarray, first: int, gains: np.ndarray
) -> float:
    """How much would be missed less with each pair let in alone, each point solved anew; returns what is missed now."""
    n, room = candidates.shape
    tried, allowed, none = np.zeros(room), np.zeros(room, np.bool_), np.zeros(room)
    total = 0.0
    for i in range(n):
        count = 0
        while count < room and candidates[i, count] >= 0:
            count += 1
        for a in range(count):
            allowed[a] = active[candidates[i, a]]
        settle(misses[i], 0.0, none, weights[i], allowed, count, STEPS)
        old = cost(misses[i], 0.0, none, weights[i], count)
        total += old
        if old < 1e-14:
            continue
        for a in range(count):
            pair = candidates[i, a]
            if pair < first or active[pair]:
                continue
            allowed[a] = True
            tried[:count] = weights[i, :count]
            settle(misses[i], 0.0, none, tried, allowed, count, STEPS)
            gains[pair - first] += old - cost(misses[i], 0.0, none, tried, count)
            allowed[a] = False
    return total
