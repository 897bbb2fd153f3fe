"""What would spoil a face, looked for before it is made: open borders, a head that is posed, parts that come through skin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..geometry.rotations import unit
from ..geometry.topology import labels_of, topology_of_triangles
from .estimate import Estimate
from .head import across_of

SEEN = 0.3  # of the sky: teeth and tongues that see so much aren't behind lips
TOUCHES = 1.015  # radii: an edge of lids so near to the centre lies on the ball
HOLE = 3  # a border of fewer edges is a crack, which the Model station tells of


@dataclass(frozen=True)
class HeadCheck:
    """turned, leant: degrees that the head is turned to the body's left about the upright, and leans to its left.

    holes: points of the character along each open border of the skin; shown: part role → its points that no lips hide, and their
    share of all; cuts: side → the share of an eye's opening along which its ball lies in the skin.
    """

    turned: float
    leant: float
    holes: tuple[np.ndarray, ...]
    shown: dict[str, tuple[np.ndarray, float]]
    cuts: dict[str, float]


def check_head(character: Character, face: Estimate) -> HeadCheck:
    """Look at a head that was read; nothing is changed."""
    head = face.head
    left, _, ahead = head.turn
    across = np.array(across_of(character))
    before = unit(np.cross(across, [0.0, 1.0, 0.0]))
    level = unit(ahead * [1, 0, 1])
    turned = np.degrees(np.arctan2(level @ across, level @ before))
    shown = {}
    for role in ("teeth", "tongue"):
        mine = head.inside & (head.role == role)
        seen = mine & (head.light > SEEN)
        if seen.any() and face.mouth.kind == "open":
            shown[role] = (head.first[seen], float(seen.sum() / mine.sum()))
    cuts: dict[str, float] = {}
    for eye in face.eyes:
        if len(eye.points) and not eye.shelled:
            cuts[eye.side] = float((np.linalg.norm(eye.rim - eye.centre, axis=1) < TOUCHES * eye.radius).mean())
    return HeadCheck(
        float(turned), float(np.degrees(np.arcsin(np.clip(-left[1], -1, 1)))), _holes(face), shown, cuts,
    )  # fmt: skip


def _holes(face: Estimate) -> tuple[np.ndarray, ...]:
    """Points along each border of the head's own skin; where it was cut from its body is none."""
    head = face.head
    flat = topology_of_triangles(head.t, len(head.p))
    open_ = flat.edges[(flat.edge_faces == 1) & head.surface[flat.edges].all(1)]
    if not len(open_):
        return ()
    label, rows = labels_of(open_, len(head.p)), np.unique(open_)
    groups = [rows[label[rows] == k] for k in np.unique(label[rows])]
    return tuple(head.first[g] for g in sorted(groups, key=len, reverse=True) if len(g) > HOLE)
