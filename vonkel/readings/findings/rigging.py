"""Findings of the later stations: limbs, skin, face, handover."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from ...core.character import Character, Link, opposite_name
from ...core.face import eye_spheres
from ...core.rig import compile_rig
from ...core.rig.fitting import driven_joints
from ...core.rig.kits import gives
from ...core.rig.kits.limb import limb_joints
from ...core.skin.between import handed_fresh
from ...core.skin.bones import bones_of
from ...core.skin.grown import grown_together
from ...core.skin.strays import held_elsewhere
from ...core.tolerances import GIMBAL, STRAIGHT, WEIGHT_SUM
from .kinds import Finding, Mend, counted, length, some

CLEAR = 0.06  # sizes: a point that is so much nearer to the other side's limbs is theirs
PLACES = 400  # along a bone, at most


def limb_findings(c: Character) -> Iterator[Finding]:
    if not c.joints:
        return
    driven = driven_joints(c)
    loose = [j.name for j in c.joints if j.deforms and j.name not in driven]
    if not c.kits:
        yield Finding(
            station="limbs", level="note", title="No kits yet", detail="Nothing can be posed before there are controls.",
            mend=Mend(label="Put on what the joints call for", step="limbs.outfit"),
        )  # fmt: skip
    elif loose:
        yield Finding(
            station="limbs", level="note", title=counted(len(loose), "joint has no control", "joints have no control"), detail=", ".join(loose[:6]), joints=loose,
            mend=Mend(label="Put on what they call for", step="limbs.outfit"),
        )  # fmt: skip
    if c.kits:
        program = compile_rig(c)
        rest = np.array([j.place for j in c.joints])
        off = np.abs(program.evaluate({}).joints[:, :, 3] - rest).max(1)
        moved = [c.joints[i].name for i in np.flatnonzero(off > 1e-6 * c.size)]
        if moved:
            yield Finding(
                station="limbs", level="must", title=counted(len(moved), "joint leaves its rest place", "joints leave their rest place") + " with all controls at zero",
                joints=moved, detail=", ".join(moved[:6]),
            )  # fmt: skip
        yield from _limbs_joined(c)
        yield from _tidy(c)
        yield from _gimbal_prone(c)
        yield from _uneven(c)


def _limbs_joined(c: Character) -> Iterator[Finding]:
    """Limbs that hang on nothing, and limbs too straight to know where to bend."""
    for k in c.kits:
        if not gives(k, "goal"):
            continue
        names = limb_joints(k)
        first = c.joint(names[0])
        if first.parent is None and len(c.joints) > len(names):
            yield Finding(
                station="limbs", level="must", title=f"The limb {k.name} isn't attached", joints=[first.name],
                detail=f"{first.name} hangs from nothing, so the limb stays behind when the body moves. Hang it from the body at the Joints station.",
            )  # fmt: skip
        places = [np.array(c.joint(n).place) for n in names]
        ways = [(b - a) / max(float(np.linalg.norm(b - a)), 1e-9) for a, b in zip(places, places[1:], strict=False)]
        most = max(float(np.arccos(np.clip(a @ b, -1, 1))) for a, b in zip(ways, ways[1:], strict=False))
        if most < STRAIGHT:
            yield Finding(
                station="limbs", level="should", title=f"The limb {k.name} is dead straight", joints=[names[1]],
                detail="IK can't tell from it which way to fold; its guide decides alone.",
                mend=Mend(label="Bend it a little", step="joints.bend", params={"joint": names[1]}),
            )  # fmt: skip


def _tidy(c: Character) -> Iterator[Finding]:
    """Controls that aren't zero at rest, two that do the same, channels nobody reads, helpers in sight."""
    program = compile_rig(c)
    read = {n for o in program.operations for n in o.controls}
    idle = [
        x.name for x in c.controls
        if x.name not in read and any(not k.locked and not k.added for k in x.channels)
    ]  # fmt: skip
    if idle:
        yield Finding(
            station="limbs", level="note", title=f"{counted(len(idle), 'control moves', 'controls move')} nothing",
            detail=", ".join(idle[:6]), mend=Mend(label="Put into the set “spare”", step="controls.set", params={"controls": idle, "level": "spare"}),
        )  # fmt: skip
    leads = {(r.lead.thing.name, r.lead.channel) for r in c.rules if isinstance(r, Link) and r.lead.kind == "channel"}
    unread = [
        f"{x.name}: {k.name}" for x in c.controls for k in x.channels if k.added and (x.name, k.name) not in leads
    ]
    if unread:
        yield Finding(
            station="limbs", level="note", title=f"{counted(len(unread), 'added channel leads', 'added channels lead')} nothing",
            detail=", ".join(unread[:6]) + ". Record a pose for it, or take it away.",
        )  # fmt: skip
    off = [
        f"{x.name}: {k.name}" for x in c.controls for k in x.channels
        if (k.kind in ("move", "turn") and k.rest != 0) or (k.kind == "size" and k.rest != 1)
        or (k.low is not None and k.rest < k.low) or (k.high is not None and k.rest > k.high)
    ]  # fmt: skip
    if off:
        yield Finding(
            station="limbs", level="must", title=f"{counted(len(off), 'channel is', 'channels are')} not zero at rest",
            detail=", ".join(off[:6]),
        )  # fmt: skip
    seen: dict[tuple[object, ...], str] = {}
    twins = []
    for x in c.controls:
        key = (x.place, x.turn, tuple(k.name for k in x.channels), x.outline)
        if key in seen and x.outline:
            twins.append(f"{seen[key]} and {x.name}")
        seen[key] = x.name
    if twins:
        yield Finding(
            station="limbs", level="should", title=f"{counted(len(twins), 'control lies', 'controls lie')} on another like it",
            detail=", ".join(twins[:4]) + ". One of the two kits is there twice.",
        )  # fmt: skip
    helpers = [
        x.name for x in c.controls if x.level == "body" and x.key.startswith("turn:") and not c.joint(x.key[5:]).deforms
    ]
    if helpers:
        yield Finding(
            station="limbs", level="note", title=f"{counted(len(helpers), 'helper joint shows', 'helper joints show')} its control",
            detail=", ".join(helpers[:6]), mend=Mend(label="Put them into “fine”", step="controls.set", params={"controls": helpers, "level": "fine"}),
        )  # fmt: skip


def _gimbal_prone(c: Character) -> Iterator[Finding]:
    """Turning controls whose middle axis may go to a quarter turn, where two axes fall together."""
    prone = []
    for x in c.controls:
        if not x.key.startswith("turn:") or x.key[5:] not in c.joint_index:
            continue
        middle = next((k for k in x.channels if k.name == f"turn {x.order[1]}"), None)
        others = [
            k for k in x.channels if k.name.startswith("turn ") and k is not middle and not (k.low == 0 and k.high == 0)
        ]
        if middle is None or middle.low is None or middle.high is None or len(others) < 2:
            continue
        if max(abs(middle.low), abs(middle.high)) > GIMBAL:
            prone.append(x.key[5:])
    if prone:
        yield Finding(
            station="limbs", level="note", title=f"{counted(len(prone), 'control can', 'controls can')} reach gimbal lock",
            detail=f"{', '.join(prone[:6])}: the middle axis of the order goes near 90° within the limits. Another order is chosen at the Joints station.",
            joints=prone,
        )  # fmt: skip


def _uneven(c: Character) -> Iterator[Finding]:
    """Kits of one side whose partner is missing or made otherwise."""
    named = {k.name: k for k in c.kits}
    for k in c.kits:
        if k.side != "L":
            continue
        other = named.get(opposite_name(k.name))
        mirrored = {r: tuple(opposite_name(n) for n in names) for r, names in k.joints.items()}
        if not all(n in c.joint_index for names in mirrored.values() for n in names):
            continue
        if other is None or other.kind != k.kind or other.options != k.options or other.joints != mirrored:
            yield Finding(
                station="limbs", level="should", title=f"The kit {k.name} has no equal on the right",
                detail="Left and right would pose differently." if other else "There is none.",
                mend=Mend(label="Mirror it", step="limbs.mirror_kit", params={"kit": k.name}),
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
            title=counted(len(bad), "point has weights", "points have weights") + " that don't sum to one",
            points=some(bad),
        )
    used = np.bincount(chosen[weights > 0], minlength=len(c.skin.joints))
    holding = {n for n, u in zip(c.skin.joints, used, strict=True) if u}
    gone = [n for n in holding if n not in c.joint_index]
    if gone:
        yield Finding(
            station="skin",
            level="must",
            title=counted(len(gone), "holder of skin is gone", "holders of skin are gone"),
            detail=", ".join(gone),
            mend=Mend(label="Bind again", step="skin.bind"),
        )
    idle = [j.name for j in c.joints if j.deforms and j.name not in holding and j.role not in ("jaw", "eye")]
    if idle:
        yield Finding(
            station="skin", level="should", title=counted(len(idle), "deforming joint holds no point", "deforming joints hold no point"), detail=", ".join(idle[:6]), joints=idle,
            mend=Mend(label="Bind again", step="skin.bind"),
        )  # fmt: skip
    helping = [n for n in holding if n in c.joint_index and not c.joint(n).deforms]
    if helping:
        yield Finding(
            station="skin",
            level="should",
            title=counted(len(helping), "helping joint holds skin", "helping joints hold skin"),
            detail=", ".join(helping[:6]),
            joints=helping,
        )
    elsewhere = held_elsewhere(c)
    if elsewhere:
        words = "; ".join(f"{a} holds what lies by {b}" for a, b in elsewhere[:4])
        yield Finding(
            station="skin", level="should", title=counted(len(elsewhere), "joint holds another's flesh", "joints hold others' flesh"),
            detail=f"{words}. Weights were swapped, or went to a wrong name.", joints=[a for a, _ in elsewhere],
            mend=Mend(label="Bind again", step="skin.bind"),
        )  # fmt: skip
    crossing = _crossing(c)
    if len(crossing):
        yield Finding(
            station="skin", level="should", title=counted(len(crossing), "point follows a limb of the other side", "points follow a limb of the other side"),
            detail="By more than 0.1, though their own side's is clearly nearer.", points=some(crossing),
        )  # fmt: skip
    seams = grown_together(c)
    if seams:
        words = "; ".join(f"{' and '.join(s.joints)} along {length(s.long)}" for s in seams[:4])
        words += f"; and {len(seams) - 4} more" if len(seams) > 4 else ""
        yield Finding(
            station="skin", level="note", title=f"Skin joins limbs that should part in {counted(len(seams), 'place', 'places')}",
            detail=f"{words}. When they move away from each other the flesh beside is drawn along, or tears: bring in a mesh in which they stand apart.",
            joints=list(dict.fromkeys(n for s in seams for n in s.joints)), points=some(np.concatenate([s.points for s in seams])),
        )  # fmt: skip


def _crossing(c: Character) -> np.ndarray:
    """Points that limbs of one side hold by more than a tenth, though a limb of the other is clearly nearer.

    By nearness, not by x: a body may stand turned, and an arm may reach across.
    """
    assert c.skin
    side = np.array([{"L": 1, "R": -1, "C": 0}[c.joint(n).side] if n in c.joint_index else 0 for n in c.skin.joints])
    bones = bones_of(c)
    limbs = {s: [b.segments for b in bones if c.joint(b.joint).side == s] for s in "LR"}
    if not all(limbs.values()):
        return np.zeros(0, np.int64)
    trees = {s: cKDTree(_along(np.concatenate(limbs[s]), 0.01 * c.size)) for s in limbs}
    wrong = []
    for sign, mine, other in ((1, "L", "R"), (-1, "R", "L")):
        much = np.where(side[c.arrays["skin/joints"]] == sign, c.arrays["skin/weights"], 0).max(1) > 0.1
        held = np.flatnonzero(much)
        far, near = (trees[s].query(c.points[held])[0] for s in (mine, other))
        wrong.append(held[far - near > CLEAR * c.size])
    return np.unique(np.concatenate(wrong))


def _along(segments: np.ndarray, step: float) -> np.ndarray:
    """Places along segments (s, 2, 3), about `step` metres apart."""
    long = np.linalg.norm(segments[:, 1] - segments[:, 0], axis=1)
    counts = np.clip(np.ceil(long / max(step, 1e-12)), 0, PLACES).astype(int) + 1
    return np.concatenate([np.linspace(a, b, k) for (a, b), k in zip(segments, counts, strict=True)])


def face_findings(c: Character) -> Iterator[Finding]:
    spheres = eye_spheres(c)
    if spheres and c.joints:
        placed = [j for j in c.joints if j.role == "eye"]
        driven = {n for k in c.kits if gives(k, "sight") for names in k.joints.values() for n in names}
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
    if c.skin and c.skin.handed and not handed_fresh(c):
        yield Finding(
            station="handover", level="should", title="The skin that goes out was made of an earlier one",
            detail="Until it is made again, the skin goes out as it is, blended linearly.",
            mend=Mend(label="Make it again", step="handover.skin"),
        )  # fmt: skip
    elif c.skin and (c.skin.method != "linear" or c.skin.smoothing) and not c.skin.handed:
        yield Finding(
            station="handover", level="note", title="What goes out thins where joints turn",
            detail="Engines blend linearly; the live skin doesn't. Joints between others and weights solved for the poses bring it near.",
            mend=Mend(label="Make the skin that goes out", step="handover.skin"),
        )  # fmt: skip
    if c.skin and c.skin.influences > 4:
        yield Finding(
            station="handover", level="note", title=f"Up to {c.skin.influences} influences a point",
            detail="Many engines read four only.", mend=Mend(label="Bind with 4", step="skin.bind", params={"influences": 4}),
        )  # fmt: skip
