"""Faults planted in bodies that are well bound, and which of them findings and trials tell of: `python -m tests.judging.faults`.

A fault counts as found when something is told that isn't told of the clean body: a finding, or a card's measure beyond what would pass.
What is told of clean bodies beyond what would pass counts as false where the body has nothing wrong; bodies of the cast whose
own skins are D somewhere are compared with themselves.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from tests.judging.posing import CAST, at_rest
from tests.judging.skins import bound
from vonkel.core.character import Character, Shape
from vonkel.core.errors import VonkelError
from vonkel.core.joints.edit import move_joint
from vonkel.core.shapes.moves import with_shape
from vonkel.core.trials import run_trials
from vonkel.core.weights import table_of, with_table
from vonkel.readings import findings

SEEDS = range(4)
ALMOST = 0.8  # a point that a joint holds by more is its own
ASIDE = 0.03  # of its limb: how far a joint is moved aside
LIMBS = ("forearm", "shin", "hand", "foot", "neck", "chain", "fin_2", "abdomen")


@dataclass(frozen=True)
class Fault:
    """What is planted, and in a body how."""

    name: str
    plant: Callable[[Character, np.random.Generator], Character | None]


def _bone(c: Character, rng: np.random.Generator) -> str | None:
    """A joint of a limb that holds skin and whose parent does."""
    assert c.skin is not None
    own = [
        j.name for j in c.joints
        if j.role.startswith(LIMBS) and j.name in c.skin.joints and j.parent in c.skin.joints and table_of(c).of(j.name).max() > ALMOST
    ]  # fmt: skip
    return str(rng.choice(own)) if own else None


def left_behind(c: Character, rng: np.random.Generator) -> Character | None:
    """One point in the middle of a limb stays with the root."""
    joint = _bone(c, rng)
    if joint is None or c.skin is None:
        return None
    table = table_of(c)
    point = int(rng.choice(np.flatnonzero(table.of(joint) > ALMOST)))
    root = max(c.skin.joints, key=lambda n: -len(_above(c, n)))
    return with_table(c, table.given_rows(np.array([point]), root))


def _above(c: Character, name: str) -> list[str]:
    out, at = [], c.joint(name).parent
    while at is not None:
        out.append(at)
        at = c.joint(at).parent
    return out


def swapped(c: Character, rng: np.random.Generator) -> Character | None:
    """What a limb's bone and the one above it hold is swapped."""
    joint = _bone(c, rng)
    if joint is None:
        return None
    table, above = table_of(c), c.joint(joint).parent
    assert above is not None
    a, b = table.of(joint), table.of(above)
    return with_table(c, table.replaced(joint, b).replaced(above, a))


def moved_aside(c: Character, rng: np.random.Generator) -> Character | None:
    """A joint on one side, moved aside by 3 % of its limb."""
    joint = _bone(c, rng)
    if joint is None or c.joint(joint).side == "C" or c.partner(joint) is None:
        return None
    j = c.joint(joint)
    assert j.parent is not None
    limb = np.array(j.place) - np.array(c.joint(j.parent).place)
    way = np.cross(limb, rng.normal(size=3))
    place = np.array(j.place) + ASIDE * 2 * np.linalg.norm(limb) * way / np.linalg.norm(way)  # a limb is two bones
    return move_joint(c, joint, place, both_sides=False, inside=False)


def wild_shape(c: Character, rng: np.random.Generator) -> Character | None:
    """A smooth shape in which one point is wild."""
    middle = c.points[rng.integers(len(c.points))]
    moves = np.exp(-((np.linalg.norm(c.points - middle, axis=1) / (0.06 * c.size)) ** 2))[:, None] * [
        0.0,
        0.02 * c.size,
        0.0,
    ]
    near = np.flatnonzero(moves[:, 1] > 0.5 * moves[:, 1].max())
    moves[rng.choice(near)] += 0.05 * c.size
    return with_shape(c, Shape(name="swelling"), moves)


def not_attached(c: Character, rng: np.random.Generator) -> Character | None:
    """A limb's joint hangs from nothing."""
    joint = _bone(c, rng)
    if joint is None:
        return None
    joints = tuple(j.model_copy(update={"parent": None}) if j.name == joint else j for j in c.joints)
    return c.with_(joints=joints)


FAULTS = (
    Fault("a point left behind", left_behind), Fault("weights swapped", swapped), Fault("a joint moved aside", moved_aside),
    Fault("a shape with one wild point", wild_shape), Fault("a limb not attached", not_attached),
)  # fmt: skip


def told(c: Character) -> set[str]:
    """Titles of findings, and measures of cards beyond what would pass."""
    out = {f.title for f in findings(c) if f.level != "note" or f.station in ("joints", "skin", "shapes")}
    try:
        for card in run_trials(c, pictures=False):
            out |= {f"{card.name}: {k}" for k, f in card.found.items() if f.share > 1}
    except VonkelError as error:
        out.add(error.what)
    return out


def planted(name: str) -> Iterator[tuple[str, bool]]:
    """Each fault in one body: its name, and whether it was found."""
    c = bound(at_rest(name)[1])[0]
    clean = told(c)
    for fault in FAULTS:
        for seed in SEEDS:
            made = fault.plant(c, np.random.default_rng([seed, len(fault.name)]))
            if made is not None:
                yield fault.name, bool(told(made) - clean)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", nargs="*", default=list(CAST))
    found: dict[str, list[bool]] = {f.name: [] for f in FAULTS}
    false = cards = 0
    for name in parser.parse_args().only:
        c = bound(at_rest(name)[1])[0]
        tried = run_trials(c, pictures=False)
        cards += len(tried)
        false += sum(
            any(f.share > 1 for k, f in t.found.items() if k in ("left_behind", "uneven", "rough")) for t in tried
        )
        for fault, ok in planted(name):
            found[fault].append(ok)
        print(
            name, {k: f"{sum(v)} of {len(v)}" for k, v in found.items()}, f"false {false} of {cards} cards", flush=True
        )
    every = [x for v in found.values() for x in v]
    print(f"found {np.mean(every):.1%} of {len(every)}")


if __name__ == "__main__":
    main()
