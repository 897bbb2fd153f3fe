"""Trying a pivot before anything is bound: a limb's first joint at several places, the limb swung, what happens measured.

A quick skin of two holders, limb and rest, stands in for the bind: each point is shared by how near it lies to the
limb's bones and to the others, counted in units of the flesh round them, and evened along the surface.
"""

from __future__ import annotations

import base64
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix
from scipy.spatial import cKDTree

from ..character import Character, Joint
from ..character.hierarchy import descendants
from ..errors import StepRefused
from ..geometry.easing import smoothstep
from ..geometry.rotations import matrix_from_rotation_vector, turn_between, unit
from ..geometry.topology import point_normals, signed_volume, skin_triangles
from ..joints.edit import move_joint
from ..joints.inside import body_solid
from ..joints.orient import bone_child
from ..joints.survey import flesh_at
from ..progress import tell
from ..skin import reference
from .measure import _pass, edge_table
from .picture import heat_colours, picture, png

OFFSETS = {
    "as it is": (0, 0, 0), "higher": (0, 1, 0), "lower": (0, -1, 0), "inward": (-1, 0, 0), "outward": (1, 0, 0),
    "forward": (0, 0, 1), "back": (0, 0, -1),
}  # fmt: skip
REACH = 0.45  # of the flesh round the joint: how far candidates lie from where it is


@dataclass(frozen=True)
class PivotSwing:
    """One way to swing the limb: its words, and the direction the limb points to afterwards."""

    name: str
    towards: np.ndarray


@dataclass(frozen=True)
class Tried:
    """One candidate place.  Figures are of the worst swing."""

    name: str
    place: tuple[float, float, float]
    worst: str  # which swing
    squeeze: float  # the shortest edge in a hundred, posed over rest: 0.3 is a deep crease
    stretch: float  # the longest edge in a hundred
    folded: int  # edges folded onto themselves
    volume: float  # change of the flesh round the joint, −0.1 is a loss of a tenth
    gap: float  # metres between the swung limb and the body; negative: it sinks in
    badness: float
    picture: bytes

    def as_dict(self) -> dict[str, object]:
        return {
            "name": self.name, "place": self.place, "worst": self.worst, "squeeze": round(self.squeeze, 4),
            "stretch": round(self.stretch, 4), "folded": self.folded, "volume": round(self.volume, 4),
            "gap_m": round(self.gap, 5), "badness": round(self.badness, 4),
            "picture": base64.b64encode(self.picture).decode(),
        }  # fmt: skip


def swings_for(joint: Joint, bone: np.ndarray) -> list[PivotSwing]:
    """Where a limb is swung to: arms down, up and forward; legs forward, out and back; anything else 60° each way."""
    side = -1.0 if joint.side == "R" else 1.0
    if joint.role == "upper_arm":
        return [PivotSwing("down", np.array([0.22 * side, -1, 0.05])), PivotSwing("up", np.array([0.35 * side, 1, 0])),
                PivotSwing("forward", np.array([0.1 * side, -0.1, 1]))]  # fmt: skip
    if joint.role == "thigh":
        return [PivotSwing("forward", np.array([0.1 * side, -0.25, 1])), PivotSwing("out", np.array([0.8 * side, -0.7, 0])),
                PivotSwing("back", np.array([0.05 * side, -0.85, -0.6]))]  # fmt: skip
    out = []
    for name, axis in (("upward", np.cross(bone, [0, 1, 0])), ("forward", np.cross(bone, [0, 0, 1]))):
        if np.linalg.norm(axis) > 0.2:
            for sign, word in ((1, name), (-1, {"upward": "downward", "forward": "backward"}[name])):
                turn = matrix_from_rotation_vector(unit(axis) * np.radians(60) * sign)
                out.append(PivotSwing(word, turn @ bone))
    return out


def try_pivot(character: Character, name: str, pictures: bool = True) -> list[Tried]:
    """Candidate places of a limb's first joint, the calmest first.

    Raises StepRefused for a joint without a limb below it, or one that a body has none around.
    """
    joint = character.joint(name)
    child = bone_child(character, joint)
    if child is None or joint.parent is None:
        raise StepRefused(f"{name} begins no limb.", character.name, "Choose a shoulder or a hip.")
    if not len(body_solid(character).cells):
        raise StepRefused("The body encloses nothing to swing a limb in.", character.name, "Close open borders first.")
    place = np.array(joint.place)
    thick = flesh_at(character, place)
    bone = unit(np.array(child.place) - place)
    swings = swings_for(joint, bone)
    out = []
    seen: list[np.ndarray] = []
    side = -1.0 if joint.side == "R" else 1.0
    for i, (word, way) in enumerate(OFFSETS.items()):
        tell(i / len(OFFSETS), f"{name} {word}")
        wanted = place + REACH * thick * np.array(way) * [side, 1, 1]
        moved = move_joint(character.with_(kits=(), controls=(), skin=None), name, wanted, both_sides=True)
        here = np.array(moved.joint(name).place)
        if any(np.linalg.norm(here - s) < 0.1 * thick for s in seen):
            continue  # pushed back inside onto another candidate
        seen.append(here)
        out.append(_tried(moved, name, word, swings, pictures))
    return sorted(out, key=lambda t: t.badness)


def _tried(character: Character, name: str, word: str, swings: list[PivotSwing], pictures: bool) -> Tried:
    joint = character.joint(name)
    pivot = np.array(joint.place)
    child = bone_child(character, joint)
    assert child is not None
    limb = {name, *descendants(character, name)}
    share = limb_share(character, limb)
    triangles = skin_triangles(character)
    points = character.points
    thick = flesh_at(character, pivot)
    near = np.linalg.norm(points - pivot, axis=1) < 3.0 * thick
    measure = _measurer(points, triangles, near & (share > 0.01) & (share < 0.99))
    outer = _outer(character, limb, share, pivot, np.array(child.place))
    normals = point_normals(points, triangles)
    used = np.zeros(len(points), bool)
    used[triangles.ravel()] = True
    body = np.flatnonzero(used & (share < 0.05))
    tree = cKDTree(points[body]) if len(body) else None
    local = 4.2 * (1.6 * thick) ** 3
    volume = signed_volume(points, triangles)
    worst: Tried | None = None
    for swing in swings:
        turn = turn_between(unit(np.array(child.place) - pivot), unit(swing.towards))
        posed = _swung(points, share, pivot, turn)
        squeeze, stretch, folded, heat = measure(posed)
        change = (signed_volume(posed, triangles) - volume) / local
        gap = _gap(posed, outer, points, body, tree, normals, thick)
        sinks = max(0.0, -gap) / thick
        crease = (1 / max(squeeze, 1e-3) - 1) / 4
        badness = max(crease, (stretch - 1) / 1.2, folded / 60, abs(change) / 0.6, sinks / 0.5)
        if worst is None or badness > worst.badness:
            image = b""
            if pictures:
                box = (pivot, 3.4 * thick + 0.12 * character.size)
                image = png(
                    picture(
                        posed, triangles, heat_colours(heat), (220, 200), 0.35 if joint.side != "R" else -0.35, 0.1, box
                    )
                )
            x, y, z = (float(v) for v in pivot)
            worst = Tried(
                word, (x, y, z), swing.name, squeeze, stretch, folded, float(change), gap, float(badness), image
            )
    assert worst is not None
    return worst


def limb_share(character: Character, limb: set[str], falloff: float = 5.0, rounds: int = 12) -> np.ndarray:
    """(n,) how much each point follows the limb, 0 to 1, by nearness to its bones and to the others'."""
    points = character.points
    first = next(character.joint(n) for n in limb if character.joint(n).parent not in limb)
    least = 0.6 * flesh_at(character, np.array(first.place))  # thin ends reach as far as this, toes as well as ears
    near = {True: np.full(len(points), np.inf), False: np.full(len(points), np.inf)}
    for j in character.joints:
        child = bone_child(character, j)
        if not j.deforms or child is None:
            continue
        a, b = np.array(j.place), np.array(child.place)
        if j.name not in limb and child.name in limb:
            b = a + 0.75 * (b - a)  # the bone to the limb ends before it
        thick = max(flesh_at(character, 0.5 * (a + b)), least)
        t = np.clip((points - a) @ (b - a) / max(float((b - a) @ (b - a)), 1e-18), 0, 1)
        d = np.linalg.norm(points - a - t[:, None] * (b - a), axis=1) / thick
        mine = j.name in limb
        near[mine] = np.minimum(near[mine], d)
    limb_d, body_d = near[True] ** falloff, near[False] ** falloff
    share = np.where(np.isfinite(body_d), body_d / np.maximum(limb_d + body_d, 1e-30), 1.0)
    triangles = skin_triangles(character)
    e = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    e = np.concatenate([e, e[:, ::-1]])
    mean = csr_matrix((np.ones(len(e)), (e[:, 0], e[:, 1])), (len(points),) * 2)
    degree = np.asarray(mean.sum(1)).ravel()
    for _ in range(rounds):
        share = np.where(degree > 0, 0.5 * share + 0.5 * (mean @ share) / np.maximum(degree, 1), share)
    return smoothstep((share - 0.1) / 0.8)  # a limb's far end follows it wholly


def _swung(points: np.ndarray, share: np.ndarray, pivot: np.ndarray, turn: np.ndarray) -> np.ndarray:
    """(n, 3) points by dual quaternions between standing still and the turn about the pivot."""
    still = np.eye(4)[:3]
    moved = np.c_[turn, pivot - turn @ pivot]
    joints = np.tile([0, 1], (len(points), 1))
    return reference.dual(points, joints, np.stack([1 - share, share], 1), np.stack([still, moved]))


def _measurer(
    points: np.ndarray, triangles: np.ndarray, region: np.ndarray
) -> Callable[[np.ndarray], tuple[float, float, int, np.ndarray]]:
    table = edge_table(points, triangles)
    ok = (table.rest_length > 0) & region[table.edges].any(1)
    stretch, normal, areas = np.zeros(len(points)), np.zeros((len(triangles), 3)), np.ones(len(triangles))
    gathers, usual = np.zeros(len(table.edges), bool), np.ones(len(table.edges))

    def measure(posed: np.ndarray) -> tuple[float, float, int, np.ndarray]:
        p = np.ascontiguousarray(posed, np.float64)
        folds = _pass(
            p,
            table.triangles,
            table.rest_area,
            table.edges,
            table.rest_length,
            table.edge_tri,
            table.rest_fold,
            gathers,
            usual,
            stretch,
            normal,
            areas,
        )[6]
        now = np.linalg.norm(p[table.edges[:, 0]] - p[table.edges[:, 1]], axis=1)
        ratio = now[ok] / table.rest_length[ok]
        return float(np.percentile(ratio, 1)), float(np.percentile(ratio, 99)), int(folds), np.minimum(stretch, 1.0)

    return measure


def _outer(character: Character, limb: set[str], share: np.ndarray, pivot: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Points of the limb well away from its root."""
    along = (character.points - pivot) @ unit(end - pivot)
    return np.flatnonzero((share > 0.95) & (along > 0.6 * float(np.linalg.norm(end - pivot))))


def _gap(
    posed: np.ndarray,
    outer: np.ndarray,
    points: np.ndarray,
    body: np.ndarray,
    tree: cKDTree | None,
    normals: np.ndarray,
    thick: float,
) -> float:
    """Metres between the swung limb's outer part and the body, negative where it is inside."""
    if tree is None or not len(outer):
        return 0.0
    d, i = tree.query(posed[outer])
    away = posed[outer] - points[body[i]]
    # Only what lies within the body's own thickness of its surface can be inside it.
    inside = (np.einsum("ij,ij->i", away, normals[body[i]]) < 0) & (d < thick)
    return float(-d[inside].max()) if inside.any() else float(d.min())
