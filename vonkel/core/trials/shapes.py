"""Trials of shapes: each by itself, the pairs that have most to do with one another, and mixes drawn by lot."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ..character import Character, Link
from ..character.refs import SHAPES
from ..rig import Pose, compile_rig
from ..rig.blends import comes_from

PAIRS = 8  # the most pairs that are tried
MIXES = 4
ON = 0.6  # of the shapes that a mix has on
LEAST = 1e-3  # of what two shapes move: pairs that share less have nothing to do with one another


Tried = tuple[str, str, dict[str, float]]
"""A trial of shapes: its name, what it is, and the strengths that are set."""


def shape_trials(character: Character) -> list[Tried]:
    """Every trial of shapes; those that come from others are on with these."""
    led = _led(character)
    own = [s for s in character.shapes if not comes_from(s) and s.name not in led]
    out: list[Tried] = []
    for s in own:
        out.append((f"{s.name}, whole", "one shape at its most", {s.name: s.high}))
        if s.low < 0:
            out.append((f"{s.name}, below", "one shape at its least", {s.name: s.low}))
    for a, b in _strongest_pairs(character, [s.name for s in own]):
        out.append((f"{a} and {b}", "two shapes that move the same points", {a: 1.0, b: 1.0}))
    if len(own) > 2:
        lot = np.random.default_rng(len(own))
        for i in range(MIXES):
            on = lot.random(len(own)) < ON
            share = lot.random(len(own))
            strengths = {s.name: round(float(v), 3) for s, v, o in zip(own, share, on, strict=True) if o}
            out.append((f"mix {i + 1}", "shapes drawn by lot", strengths))
    return out


def shaped_pose(character: Character, strengths: dict[str, float]) -> Pose:
    """The figure at rest with these shapes on."""
    return compile_rig(character).evaluate({SHAPES: strengths})


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
    if len(names) < 2:
        return []
    index = [character.arrays[f"shape/{n}/points"] for n in names]
    far = [np.linalg.norm(character.arrays[f"shape/{n}/moves"], axis=1).astype(float) for n in names]
    column = np.repeat(np.arange(len(names)), [len(i) for i in index])
    table = csr_matrix((np.concatenate(far), (np.concatenate(index), column)), (len(character.points), len(names)))
    shared = (table.T @ table).toarray()
    own = np.sqrt(np.maximum(np.diag(shared), 1e-30))
    i, j = np.triu_indices(len(names), 1)
    enough = shared[i, j] > LEAST * own[i] * own[j]
    order = np.argsort(-shared[i, j][enough], kind="stable")[:PAIRS]
    return [(names[a], names[b]) for a, b in zip(i[enough][order], j[enough][order], strict=True)]
