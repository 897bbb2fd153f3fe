"""Findings: what is wrong or doubtful, where it is, and the step that mends it."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel

from ..core.character import Character, opposite_name
from ..core.face import eye_spheres
from ..core.geometry.health import health
from ..core.geometry.rotations import matrix_from_quaternion, unit
from ..core.joints.inside import body_solid, may_stick_out
from ..core.joints.orient import MIRROR, bone_child
from ..core.rig import compile_rig
from ..core.tolerances import PAIR, SAME_PLACE, STRAIGHT, WEIGHT_SUM

Level = Literal["must", "should", "note"]


class Mend(BaseModel):
    """A step that would mend a finding, as a button's label."""

    label: str
    step: str
    params: dict[str, Any] = {}


class Finding(BaseModel):
    """`must`: the rig can't be handed over with it; `should`: it will show; `note`: worth knowing."""

    station: str
    level: Level
    title: str
    detail: str = ""
    joints: list[str] = []
    points: list[int] = []
    mend: Mend | None = None


_cache: OrderedDict[str, list[Finding]] = OrderedDict()


def findings(character: Character) -> list[Finding]:
    """All findings, by station.  Kept for the last few characters looked at."""
    key = character.key
    if key not in _cache:
        _cache[key] = [f for check in CHECKS for f in check(character)]
        while len(_cache) > 24:
            _cache.popitem(last=False)
    return _cache[key]


def _some(points: np.ndarray) -> list[int]:
    return [int(p) for p in points[:400]]


_health: OrderedDict[str, list[Finding]] = OrderedDict()


def model_findings(c: Character) -> Iterator[Finding]:
    if not len(c.points):
        yield Finding(station="model", level="must", title="There is no mesh")
        return
    key = c.arrays.hash_of("points") + c.arrays.hash_of("face_corners") + "".join(f"{p.name}{p.role}" for p in c.parts)
    if key not in _health:
        _health[key] = list(_mesh_findings(c))
        while len(_health) > 8:
            _health.popitem(last=False)
    yield from _health[key]


def _mesh_findings(c: Character) -> Iterator[Finding]:
    h = health(c)
    height = c.height
    if not 0.02 < c.size < 30:
        yield Finding(
            station="model", level="should", title=f"The model is {_length(c.size)} large",
            detail="That is hardly its real size. Set the height from something you know.",
        )  # fmt: skip
    if h.border_edges:
        yield Finding(
            station="model", level="should", title=f"{h.border_edges} edges lie on an open border",
            detail="An open body can still be bound; a hole where the skin should be whole will show.", points=_some(h.border_points),
        )  # fmt: skip
    if h.nonmanifold_edges:
        yield Finding(
            station="model", level="should", title=f"{h.nonmanifold_edges} edges are shared by more than two faces",
            detail="Evening and normals have no clear neighbour there.", points=_some(h.nonmanifold_points),
        )  # fmt: skip
    if h.turned_edges:
        yield Finding(
            station="model", level="should", title=f"{h.turned_edges} edges join faces that disagree about outside",
            detail="Some faces are turned inside out.", points=_some(h.turned_points),
        )  # fmt: skip
    if h.flat_faces:
        yield Finding(
            station="model", level="note", title=f"{h.flat_faces} faces have no area", points=_some(h.flat_points),
            detail="They take part in nothing and may be deleted where the mesh was made.",
        )  # fmt: skip
    if h.doubled_faces:
        yield Finding(
            station="model", level="should", title=f"{h.doubled_faces} faces lie twice in the same place",
            detail="Both will show through each other.", points=_some(h.doubled_points),
        )  # fmt: skip
    if len(h.loose_points):
        yield Finding(
            station="model",
            level="note",
            title=f"{len(h.loose_points)} points belong to no face",
            points=_some(h.loose_points),
        )
    if 0 < len(h.asymmetry_points):
        share = len(h.asymmetry_points) / max(h.points, 1)
        yield Finding(
            station="model", level="note" if share > 0.5 else "should",
            title=f"Left and right differ by up to {_length(h.asymmetry)}",
            detail=f"{len(h.asymmetry_points):,} points have no partner across the body plane.", points=_some(h.asymmetry_points),
        )  # fmt: skip
    low = float(c.points[:, 1].min())
    skin = [p for p in c.parts if p.role == "skin"]
    body = np.concatenate([c.points[p.points[0] : p.points[1]] for p in skin]) if skin else c.points
    off = float(0.5 * (body[:, 0].max() + body[:, 0].min()))
    if abs(low) > 0.02 * height or abs(off) > 0.02 * height:
        yield Finding(
            station="model", level="should", title="The model doesn't stand on the middle of the ground",
            detail=f"Its lowest point is at {_length(low)}, its middle {_length(off)} to the side.",
            mend=Mend(label="Ground and centre", step="model.stand"),
        )  # fmt: skip


def _length(metres: float) -> str:
    a = abs(metres)
    return f"{metres:.2f} m" if a >= 2 else f"{100 * metres:.1f} cm" if a >= 0.01 else f"{1000 * metres:.2f} mm"


def joint_findings(c: Character) -> Iterator[Finding]:
    if not c.joints:
        return
    roots = [j.name for j in c.joints if j.parent is None]
    if len(roots) > 1:
        yield Finding(
            station="joints", level="should", title=f"{len(roots)} joints have no parent",
            detail="Only one should: what hangs from another root doesn't follow the body.", joints=roots,
        )  # fmt: skip
    inside = [j for j in c.joints if j.deforms and not may_stick_out(c, j) and j.role not in ("eye", "jaw")]
    if inside and len(c.points):
        solid = body_solid(c)
        if len(solid.cells):
            places = np.array([j.place for j in inside])
            far = solid.tree.query(places)[0]
            out = [j.name for j, d in zip(inside, far, strict=True) if d > 1.5 * solid.h]
            if out:
                yield Finding(
                    station="joints", level="should", title=f"{len(out)} deforming joints lie outside the body",
                    detail=", ".join(out[:6]), joints=out,
                )  # fmt: skip
    odd = [j.name for j in c.joints if _turned_oddly(c, j.name)]
    if odd:
        yield Finding(
            station="joints", level="should", title=f"{len(odd)} joints don't point down their bone",
            detail=", ".join(odd[:6]), joints=odd,
            mend=Mend(label="Turn down the bone", step="joints.turn_down_bones", params={"joints": odd}),
        )  # fmt: skip
    for middle, what in (("forearm", "arm"), ("shin", "leg")):
        for j in (j for j in c.joints if j.role == middle and j.side != "R"):
            if _bend(c, j.name) < STRAIGHT:
                yield Finding(
                    station="joints", level="should", title=f"The {what} is dead straight",
                    detail="An IK chain needs a slight bend to know its way.", joints=[j.name, opposite_name(j.name)],
                    mend=Mend(label="Bend by 4°", step="joints.bend", params={"joint": j.name, "degrees": 4}),
                )  # fmt: skip
    unpaired = []
    for j in c.joints:
        partner = opposite_name(j.name)
        if j.side == "C":
            continue
        if partner not in c.joint_index:
            unpaired.append(j.name)
        elif j.side == "L" and np.abs(np.array(j.place) * MIRROR - c.joint(partner).place).max() > PAIR * c.size:
            unpaired.append(j.name)
    if unpaired:
        yield Finding(
            station="joints", level="note", title=f"{len(unpaired)} joints have no partner in the mirrored place",
            detail=", ".join(unpaired[:6]), joints=unpaired,
            mend=Mend(label="Mirror the left", step="joints.mirror", params={"joint": unpaired[0]}) if unpaired[0].endswith("_L") else None,
        )  # fmt: skip
    short = [j.name for j in c.joints if (k := bone_child(c, j)) and np.allclose(j.place, k.place, atol=SAME_PLACE)]
    if short:
        yield Finding(
            station="joints",
            level="must",
            title=f"{len(short)} bones have no length",
            joints=short,
            detail=", ".join(short[:6]),
        )


def _turned_oddly(c: Character, name: str) -> bool:
    j = c.joint(name)
    child = bone_child(c, j)
    if child is None:
        return False
    way = np.array(child.place) - np.array(j.place)
    return np.linalg.norm(way) > 1e-6 and float(unit(way) @ matrix_from_quaternion(j.turn)[:, 0]) < 0.985


def _bend(c: Character, name: str) -> float:
    """Radians by which the chain turns at a joint."""
    j = c.joint(name)
    child = bone_child(c, j)
    if j.parent is None or child is None:
        return np.inf
    a, b, d = (np.array(x.place) for x in (c.joint(j.parent), j, child))
    return float(np.arctan2(np.linalg.norm(np.cross(b - a, d - b)), (b - a) @ (d - b)))


def limb_findings(c: Character) -> Iterator[Finding]:
    if not c.joints:
        return
    driven = {n for k in c.kits for names in k.joints.values() for n in names}
    loose = [j.name for j in c.joints if j.deforms and j.name not in driven]
    if not c.kits:
        yield Finding(
            station="limbs", level="note", title="No kits yet", detail="Nothing can be posed before there are controls.",
            mend=Mend(label="Put on what the joints call for", step="limbs.outfit"),
        )  # fmt: skip
    elif loose:
        yield Finding(
            station="limbs", level="note", title=f"{len(loose)} joints have no control", detail=", ".join(loose[:6]), joints=loose,
            mend=Mend(label="Put on what they call for", step="limbs.outfit"),
        )  # fmt: skip
    if c.kits:
        program = compile_rig(c)
        rest = np.array([j.place for j in c.joints])
        off = np.abs(program.evaluate({}).joints[:, :, 3] - rest).max(1)
        moved = [c.joints[i].name for i in np.flatnonzero(off > 1e-6 * c.size)]
        if moved:
            yield Finding(
                station="limbs", level="must", title=f"{len(moved)} joints leave their rest place with all controls at zero",
                joints=moved, detail=", ".join(moved[:6]),
            )  # fmt: skip


def skin_findings(c: Character) -> Iterator[Finding]:
    if not c.joints:
        return
    if c.skin is None:
        yield Finding(
            station="skin", level="must", title="The skin isn't bound", detail="The mesh follows no joint yet.",
            mend=Mend(label="Bind", step="skin.bind"),
        )  # fmt: skip
        return
    weights, chosen = c.arrays["skin/weights"], c.arrays["skin/joints"]
    sums = weights.astype(float).sum(1)
    bad = np.flatnonzero(np.abs(sums - 1) > WEIGHT_SUM)
    if len(bad):
        yield Finding(
            station="skin",
            level="must",
            title=f"{len(bad)} points have weights that don't sum to one",
            points=_some(bad),
        )
    used = np.bincount(chosen[weights > 0], minlength=len(c.skin.joints))
    holding = {n for n, u in zip(c.skin.joints, used, strict=True) if u}
    gone = [n for n in holding if n not in c.joint_index]
    if gone:
        yield Finding(
            station="skin",
            level="must",
            title=f"{len(gone)} holders of skin are gone",
            detail=", ".join(gone),
            mend=Mend(label="Bind again", step="skin.bind"),
        )
    idle = [j.name for j in c.joints if j.deforms and j.name not in holding and j.role not in ("jaw", "eye")]
    if idle:
        yield Finding(
            station="skin", level="should", title=f"{len(idle)} deforming joints hold no point", detail=", ".join(idle[:6]), joints=idle,
            mend=Mend(label="Bind again", step="skin.bind"),
        )  # fmt: skip
    helping = [n for n in holding if n in c.joint_index and not c.joint(n).deforms]
    if helping:
        yield Finding(
            station="skin",
            level="should",
            title=f"{len(helping)} helping joints hold skin",
            detail=", ".join(helping[:6]),
            joints=helping,
        )
    crossing = _crossing(c)
    if len(crossing):
        yield Finding(
            station="skin", level="should", title=f"{len(crossing)} points follow a limb of the other side",
            detail="By more than 0.1, away from the middle.", points=_some(crossing),
        )  # fmt: skip


def _crossing(c: Character) -> np.ndarray:
    """Points well off the body plane that a joint of the other side holds by more than a tenth."""
    assert c.skin
    side = np.array([{"L": 1, "R": -1, "C": 0}[c.joint(n).side] if n in c.joint_index else 0 for n in c.skin.joints])
    wrong = (side[c.arrays["skin/joints"]] * np.sign(c.points[:, :1]) < 0) & (c.arrays["skin/weights"] > 0.1)
    return np.flatnonzero(wrong.any(1) & (np.abs(c.points[:, 0]) > 0.03 * c.size))


def face_findings(c: Character) -> Iterator[Finding]:
    spheres = eye_spheres(c)
    if spheres and c.joints:
        placed = [j for j in c.joints if j.role == "eye"]
        driven = {n for k in c.kits if k.kind == "eyes" for names in k.joints.values() for n in names}
        centred = all(any(np.linalg.norm(s.centre - j.place) < 0.1 * s.radius for j in placed) for s in spheres)
        if not centred or (c.kits and not all(j.name in driven for j in placed)):
            yield Finding(
                station="face", level="should", title="The eyes have no joint at their centre, or no aim",
                mend=Mend(label="Set eyes and aim", step="face.eyes"),
            )  # fmt: skip
    for s in spheres:
        if s.misfit > 0.15:
            yield Finding(
                station="face", level="note", title=f"{s.part} is no ball",
                detail=f"Its points miss their sphere by {100 * s.misfit:.0f} % of the radius.",
            )  # fmt: skip


def handover_findings(c: Character) -> Iterator[Finding]:
    if c.skin and c.skin.influences > 4:
        yield Finding(
            station="handover", level="note", title=f"Up to {c.skin.influences} influences a point",
            detail="Many engines read four only.", mend=Mend(label="Bind with 4", step="skin.bind", params={"influences": 4}),
        )  # fmt: skip


CHECKS = (model_findings, joint_findings, limb_findings, skin_findings, face_findings, handover_findings)
