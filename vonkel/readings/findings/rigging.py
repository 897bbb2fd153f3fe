"""Findings of the later stations: limbs, skin, face, handover."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.character import Character
from ...core.face import eye_spheres
from ...core.rig import compile_rig
from ...core.tolerances import WEIGHT_SUM
from .kinds import Finding, Mend, some


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
            points=some(bad),
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
            detail="By more than 0.1, away from the middle.", points=some(crossing),
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
