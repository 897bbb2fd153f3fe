"""Trials of shapes: each by itself, the pairs that have most to do with one another, and mixes drawn by lot."""

from __future__ import annotations

from itertools import combinations

import numpy as np

from ..character import Character, Link
from ..character.refs import SHAPES
from ..rig import Pose, compile_rig
from ..rig.blends import comes_from

PAIRS = 8  # the most pairs that are tried
MIXES = 4
ON = 0.6  # of the shapes that a mix has on
LEAST = 1e-3  # of what two shapes move: pairs that share less have nothing to do with one another


def shape_trials(character: Character) -> list[tuple[str, str, Pose]]:
    """(name, what it is, pose) for every trial of shapes; shapes that come from others are on with these."""
    led = _led(character)
    own = [s for s in character.shapes if not comes_from(s) and s.name not in led]
    if not own:
        return []
    program = compile_rig(character)

    def at(strengths: dict[str, float]) -> Pose:
        return program.evaluate({SHAPES: strengths})

    out: list[tuple[str, str, Pose]] = []
    for s in own:
        out.append((f"{s.name}, whole", "one shape at its most", at({s.name: s.high})))
        if s.low < 0:
            out.append((f"{s.name}, below", "one shape at its least", at({s.name: s.low})))
    for a, b in _strongest_pairs(character, [s.name for s in own]):
        out.append((f"{a} and {b}", "two shapes that move the same points", at({a: 1.0, b: 1.0})))
    if len(own) > 2:
        lot = np.random.default_rng(len(own))
        for i in range(MIXES):
            on = lot.random(len(own)) < ON
            share = lot.random(len(own))
            strengths = {s.name: round(float(v), 3) for s, v, o in zip(own, share, on, strict=True) if o}
            out.append((f"mix {i + 1}", "shapes drawn by lot", at(strengths)))
    return out


def _led(character: Character) -> set[str]:
    """The shapes that a joint's turn leads: by themselves they are only ever seen in that pose."""
    return {
        f.thing.name
        for r in character.rules
        if isinstance(r, Link) and r.lead.kind != "channel"
        for f in r.followers
        if f.thing.kind == "shape"
    }


def _strongest_pairs(character: Character, names: list[str]) -> list[tuple[str, str]]:
    """The pairs that move the same points most."""
    far: dict[str, tuple[np.ndarray, np.ndarray]] = {}
    for name in names:
        moves = character.arrays[f"shape/{name}/moves"]
        far[name] = character.arrays[f"shape/{name}/points"], np.linalg.norm(moves, axis=1)
    whole = np.zeros(len(character.points))
    found = []
    for a, b in combinations(names, 2):
        (i, u), (j, v) = far[a], far[b]
        whole[i] = u
        shared = float((whole[j] * v).sum())
        whole[i] = 0.0
        if shared > LEAST * np.sqrt(float((u**2).sum()) * float((v**2).sum())):
            found.append((shared, a, b))
    return [(a, b) for _, a, b in sorted(found, reverse=True)[:PAIRS]]
