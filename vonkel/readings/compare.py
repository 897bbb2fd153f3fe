"""Two states of a character side by side: what differs, in words and figures."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..core.character import Character
from ..core.character.words import few
from .report import counts


def compare(a: Character, b: Character) -> dict[str, Any]:
    """Counts of both and sentences about what differs from `a` to `b`; lengths in metres."""
    said: list[str] = []
    if a.arrays.hash_of("points") != b.arrays.hash_of("points"):
        if len(a.points) == len(b.points):
            far = np.linalg.norm(b.points - a.points, axis=1)
            said.append(f"{int((far > 1e-9).sum()):,} points moved, by up to {100 * float(far.max()):.2f} cm")
        else:
            said.append(f"the mesh went from {len(a.points):,} to {len(b.points):,} points")
    said += _by_name(
        "part", {p.name: p for p in a.parts}, {p.name: p for p in b.parts}, ("role", "colour", "shading", "hidden")
    )
    old, new = {j.name: j for j in a.joints}, {j.name: j for j in b.joints}
    said += _by_name("joint", old, new, ("parent", "turn", "deforms", "role", "order", "freedom"))
    moved = {n: float(np.linalg.norm(np.array(new[n].place) - old[n].place)) for n in old if n in new}
    far_moved = {n: d for n, d in moved.items() if d > 1e-9}
    if far_moved:
        most = max(far_moved, key=lambda n: far_moved[n])
        said.append(
            f"{len(far_moved)} joint{'s' if len(far_moved) > 1 else ''} moved, {most} the farthest: {100 * far_moved[most]:.1f} cm"
        )
    said += _by_name("kit", {k.name: k for k in a.kits}, {k.name: k for k in b.kits}, ("kind", "joints", "options"))
    said += _by_name("rule", {r.name: r for r in a.rules}, {r.name: r for r in b.rules}, ("kind", "on"))
    said += _by_name("shape", {s.name: s for s in a.shapes}, {s.name: s for s in b.shapes}, SHAPE)
    sculpted = [s.name for s in a.shapes if f"shape/{s.name}/moves" in b.arrays and _moved(a, b, s.name)]
    if sculpted:
        said.append(f"{len(sculpted)} shape{'s' if len(sculpted) > 1 else ''} sculpted otherwise: {few(sculpted, 4)}")
    said += _by_name("region", {r.name: r for r in a.regions}, {r.name: r for r in b.regions}, ("rim",))
    said += _by_name("board", {x.name: x for x in a.boards}, {x.name: x for x in b.boards}, BOARD)
    if (a.skin is None) != (b.skin is None):
        said.append("the skin was bound" if b.skin else "the skin is gone")
    elif a.skin and b.skin and a.arrays.hash_of("skin/weights") != b.arrays.hash_of("skin/weights"):
        said.append("skin weights differ")
    return {"a": counts(a), "b": counts(b), "height": [a.height, b.height], "said": said or ["Nothing differs."]}


SHAPE = ("low", "high", "heading", "region", "even", "of", "between", "at")
BOARD = ("region", "pictures", "curve", "blend", "strength", "snap", "shared")


def _moved(a: Character, b: Character, shape: str) -> bool:
    """Whether a shape moves something else, or otherwise."""
    return any(a.arrays.hash_of(k) != b.arrays.hash_of(k) for k in (f"shape/{shape}/points", f"shape/{shape}/moves"))


def _by_name(what: str, old: dict[str, Any], new: dict[str, Any], fields: tuple[str, ...]) -> list[str]:
    said = []
    for word, names in (("new", [n for n in new if n not in old]), ("gone", [n for n in old if n not in new])):
        if names:
            said.append(f"{len(names)} {what}{'s' if len(names) > 1 else ''} {word}: {few(names, 4)}")
    changed = [n for n in old if n in new and any(getattr(old[n], f) != getattr(new[n], f) for f in fields)]
    if changed:
        said.append(f"{len(changed)} {what}{'s' if len(changed) > 1 else ''} set otherwise: {few(changed, 4)}")
    return said
