"""Findings of the Joints station: the slips that are made while joints are placed."""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from ...core.character import Character, Joint, opposite_name
from ...core.character.hierarchy import descendants
from ...core.character.words import few
from ...core.joints.freedom import gimbal_margins
from ...core.joints.inside import body_solid, may_stick_out
from ...core.joints.orient import MIRROR, bend_angle, bone_child, curl_senses, off_bend, off_bone
from ...core.plans import acceptance, boneless, verdict
from ...core.tolerances import IN_A_POSE, PAIR, SAME_PLACE, STRAIGHT
from .kinds import Finding, Mend, counted

UNNAMED = re.compile(r"joint(?:[_ ]?\d+|_end)*(?:_[LR])?", re.I)
OFF_BONE = np.radians(10)
OFF_BEND = np.radians(35)
ORDER_NEAR_LOCK = np.radians(12)  # nearer to lock than this an order is worth changing


def joint_findings(c: Character) -> Iterator[Finding]:
    if not c.joints:
        return
    yield from _hierarchy(c)
    yield from _places(c)
    yield from _doubts(c)
    yield from _acceptance(c)
    yield from _boneless(c)
    yield from _facing(c)
    yield from _turns(c)
    yield from _sides(c)
    yield from _freedoms(c)


def _hierarchy(c: Character) -> Iterator[Finding]:
    roots = [j for j in c.joints if j.parent is None]
    if len(roots) > 1:
        main = max(roots, key=lambda j: len(descendants(c, j.name)))
        loose = [j for j in roots if j is not main]
        own = {main.name, *descendants(c, main.name)}
        places = np.array([c.joint(n).place for n in own])
        names = list(own)
        nearest = names[int(np.argmin(np.linalg.norm(places - np.array(loose[0].place), axis=1)))]
        yield Finding(
            station="joints", level="should", title=counted(len(loose), "limb hangs from nothing", "limbs hang from nothing"),
            detail=f"{few([j.name for j in loose])}: what has no parent doesn't follow the body.", joints=[j.name for j in loose],
            mend=Mend(label=f"Hang {loose[0].name} from {nearest}", step="joints.reparent", params={"joint": loose[0].name, "parent": nearest}),
        )  # fmt: skip
    nameless = [j.name for j in c.joints if UNNAMED.fullmatch(j.name)]
    if nameless:
        yield Finding(
            station="joints", level="note", title=counted(len(nameless), "joint has no name of its own", "joints have no name of their own"),
            detail=few(nameless), joints=nameless,
        )  # fmt: skip
    twins = _twins(c)
    if twins:
        top = _tops(c, twins)
        yield Finding(
            station="joints", level="should", title=counted(len(twins), "joint lies on another one", "joints lie on others"),
            detail=f"{few(twins)}: a chain made twice by accident?", joints=twins,
            mend=Mend(label=f"Take out {top}", step="joints.remove_chain", params={"joint": top}),
        )  # fmt: skip


def _twins(c: Character) -> list[str]:
    """Joints in the place of an earlier one that is neither parent nor child of theirs."""
    places = np.array([j.place for j in c.joints])
    found = []
    for a, b in cKDTree(places).query_pairs(1e-4 * c.size):
        first, second = c.joints[min(a, b)], c.joints[max(a, b)]
        if second.parent != first.name and first.parent != second.name:
            found.append(second.name)
    return sorted(set(found), key=lambda n: c.joint_index[n])


def _tops(c: Character, names: list[str]) -> str:
    """The first of the joints whose parent is not among them."""
    chosen = set(names)
    return next((n for n in names if c.joint(n).parent not in chosen), names[0])


def _places(c: Character) -> Iterator[Finding]:
    inside = [j for j in c.joints if j.deforms and not may_stick_out(c, j) and j.role not in ("eye", "jaw")]
    if inside and len(c.points):
        solid = body_solid(c)
        if len(solid.cells):
            places = np.array([j.place for j in inside])
            far = solid.tree.query(places)[0]
            out = [j.name for j, d in zip(inside, far, strict=True) if d > 1.5 * solid.h]
            if out:
                yield Finding(
                    station="joints", level="should", title=counted(len(out), "deforming joint lies outside the body", "deforming joints lie outside the body"),
                    detail=few(out), joints=out,
                    mend=Mend(label="Bring inside", step="joints.bring_inside", params={"joints": out}),
                )  # fmt: skip
    short = [j.name for j in c.joints if (k := bone_child(c, j)) and np.allclose(j.place, k.place, atol=SAME_PLACE)]
    if short:
        yield Finding(
            station="joints", level="must", title=counted(len(short), "bone has no length", "bones have no length"), joints=short,
            detail=few(short),
        )  # fmt: skip


def _doubts(c: Character) -> Iterator[Finding]:
    """What the plan that laid the joints wasn't sure of, until it was moved or looked at."""
    lost = [j.name for j in c.joints if verdict(j.doubt) == "not found"]
    doubtful = [j.name for j in c.joints if verdict(j.doubt) == "look here"]
    for names, level, one, many, detail in (
        (lost, "must", "joint was not found", "joints were not found", "Where the plan put them is a guess"),
        (doubtful, "note", "joint wants a look", "joints want a look", "The plan wasn't sure of them"),
    ):
        if names:
            yield Finding(
                station="joints", level=level, title=counted(len(names), one, many),
                detail=f"{detail}: {few(names)}. Drag them, or put their landmarks right under Plans.", joints=names,
                mend=Mend(label="They are right", step="joints.accept", params={"joints": names}),
            )  # fmt: skip


FAULTS = {
    "stacked": ("must", "joint lies on its parent", "joints lie on their parents", "A bone without length turns nothing."),
    "crossed": ("must", "joint stands on the other side", "joints stand on the other side", "Left and right are exchanged, or it faces away."),
    "bare": ("should", "bone runs outside the body", "bones run outside the body", "The flesh it moves lies elsewhere."),
    "empty": ("should", "joint would hold no skin", "joints would hold no skin", "No point of the mesh is nearest to them."),
    "uneven": ("should", "bone is far longer than its partner", "bones are far longer than their partners", "One of each pair is not where it should be."),
}  # fmt: skip


def _acceptance(c: Character) -> Iterator[Finding]:
    for fault in acceptance(c):
        if fault.kind not in FAULTS:
            continue  # joints outside the body are told of above
        level, one, many, detail = FAULTS[fault.kind]
        names = list(fault.joints)
        mend = None
        if fault.kind == "empty":
            mend = Mend(
                label=f"Let {names[0]} hold no skin", step="joints.set", params={"joint": names[0], "deforms": False}
            )
        elif fault.kind == "stacked":
            mend = Mend(label=f"Take out {names[0]}, heal", step="joints.remove", params={"joint": names[0]})
        elif fault.kind == "bare":
            mend = Mend(label="Bring inside", step="joints.bring_inside", params={"joints": names})
        yield Finding(
            station="joints", level=level, title=counted(len(names), one, many), detail=f"{few(names)}. {detail}",
            joints=names, mend=mend,
        )  # fmt: skip


def _boneless(c: Character) -> Iterator[Finding]:
    """Flesh far from every bone: a limb that was left out shows so."""
    parts = boneless(c)
    if not parts:
        return
    near = list(dict.fromkeys(p.joint for p in parts))
    tree = cKDTree(c.points)
    points = [int(i) for p in parts for i in np.ravel(tree.query(p.place, k=min(40, len(c.points)))[1])]
    yield Finding(
        station="joints", level="note", title=counted(len(parts), "part of the body holds no bone", "parts of the body hold no bone"),
        detail=f"The nearest: {few(near)}. Horns and shells want none; for a limb that was left out, draw a chain.",
        joints=near, points=points,
    )  # fmt: skip


def _facing(c: Character) -> Iterator[Finding]:
    """Which way the joints say that the body faces."""
    pairs = [
        (j, c.joint(opposite_name(j.name)))
        for j in c.joints
        if j.side == "L" and opposite_name(j.name) in c.joint_index
    ]
    roots = [(a, b) for a, b in pairs if a.role in ("thigh", "upper_arm", "fin_1")]
    if not roots:
        return
    left = np.mean([np.array(a.place) - np.array(b.place) for a, b in roots], axis=0) * [1.0, 0.0, 1.0]
    facing = np.cross(left, [0.0, 1.0, 0.0])
    degrees = float(np.degrees(np.arctan2(facing[0], facing[2])))
    if np.linalg.norm(left) > 0.02 * c.size and abs(degrees) > 12:
        side = "left" if degrees > 0 else "right"
        words = (
            "It faces away, to −Z" if abs(degrees) > 168 else f"It stands turned by {abs(degrees):.0f}° to its {side}"
        )
        yield Finding(
            station="joints", level="note", title=words,
            detail="Animators and trials expect it to face +Z. A body in a pose needs no mend.",
            joints=[roots[0][0].name, roots[0][1].name],
            mend=Mend(label="Turn it to face +Z", step="model.stand", params={"turn": round(-degrees, 2)}),
        )  # fmt: skip


def _turns(c: Character) -> Iterator[Finding]:
    odd = [j.name for j in c.joints if off_bone(c, j) > OFF_BONE]
    if odd:
        yield Finding(
            station="joints", level="should", title=counted(len(odd), "joint doesn't point down its bone", "joints don't point down their bones"),
            detail=few(odd), joints=odd,
            mend=Mend(label="Turn down the bone", step="joints.turn_down_bones", params={"joints": odd}),
        )  # fmt: skip
    crooked = [j.name for j in c.joints if j.role in ("forearm", "shin") and off_bend(c, j) > OFF_BEND]
    if crooked:
        wrong = [n for n in crooked if off_bend(c, c.joint(n)) > np.radians(150)]
        yield Finding(
            station="joints", level="should",
            title=counted(len(crooked), "hinge stands off its bend", "hinges stand off their bends"),
            detail=few(crooked) + (": a positive turn opens what it should close." if wrong else ": they would bend out of their plane."),
            joints=crooked, mend=Mend(label="Turn by the bend", step="joints.orient", params={"joints": crooked, "rule": "bend"}),
        )  # fmt: skip
    for holder, senses in curl_senses(c).items():
        against = [n for n, s in senses.items() if s < 0]
        if against and not (holder.endswith("_R") and opposite_name(holder) in c.joint_index):
            yield Finding(
                station="joints", level="should", title=f"Digits of {holder} curl against each other",
                detail=f"{few(against)} would open while the others close.", joints=against,
                mend=Mend(label="Make them curl alike", step="joints.curl_alike", params={"holder": holder}),
            )  # fmt: skip
    for middle, what in (("forearm", "arm"), ("shin", "leg")):
        for j in (j for j in c.joints if j.role == middle and j.side != "R"):
            if bend_at(c, j.name) < STRAIGHT:
                yield Finding(
                    station="joints", level="should", title=f"The {what} is dead straight at {j.name}",
                    detail="An IK chain needs a slight bend to know its way.", joints=[j.name, opposite_name(j.name)],
                    mend=Mend(label="Bend by 4°", step="joints.bend", params={"joint": j.name, "degrees": 4}),
                )  # fmt: skip


def bend_at(c: Character, name: str) -> float:
    """Radians by which the chain turns at a joint; infinite where it has no bone on both sides."""
    j = c.joint(name)
    child = bone_child(c, j)
    if j.parent is None or child is None:
        return float(np.inf)
    return bend_angle(*(np.array(x.place) for x in (c.joint(j.parent), j, child)))


def _sides(c: Character) -> Iterator[Finding]:
    unpaired: list[Joint] = []
    for j in c.joints:
        partner = opposite_name(j.name)
        if j.side == "C":
            continue
        if partner not in c.joint_index:
            unpaired.append(j)
        elif j.side == "L" and np.abs(np.array(j.place) * MIRROR - c.joint(partner).place).max() > PAIR * c.size:
            unpaired.append(j)
    sided = sum(j.side != "C" for j in c.joints)
    if len(unpaired) > 0.3 * sided and _in_a_pose(c, unpaired):
        yield Finding(
            station="joints", level="note", title="The body stands in a pose",
            detail="Left and right don't mirror each other; a joint that is moved leaves its partner where it is.",
        )  # fmt: skip
        return
    if unpaired:
        names = [j.name for j in unpaired]
        top = _tops(c, names)
        yield Finding(
            station="joints", level="note", title=counted(len(names), "joint has no partner in the mirrored place", "joints have no partner in the mirrored place"),
            detail=few(names), joints=names,
            mend=Mend(label=f"Mirror {top}", step="joints.mirror", params={"joint": top}) if opposite_name(top) != top else None,
        )  # fmt: skip


def _in_a_pose(c: Character, unpaired: list[Joint]) -> bool:
    """Whether most partners lie farther apart than slips do."""
    far = [
        float(np.abs(np.array(j.place) * MIRROR - c.joint(p).place).max())
        for j in unpaired
        if (p := opposite_name(j.name)) in c.joint_index
    ]
    return len(far) > 2 and float(np.median(far)) > 0.4 * IN_A_POSE * c.size


def _freedoms(c: Character) -> Iterator[Finding]:
    for j in c.joints:
        if j.freedom is None or j.side == "R" or all(j.freedom.locked):
            continue
        margins = gimbal_margins(j, 5)
        best = max(margins, key=lambda o: margins[o])
        if margins[j.order] < ORDER_NEAR_LOCK and margins[best] > margins[j.order] + np.radians(8):
            yield Finding(
                station="joints", level="note", title=f"{j.name} comes near gimbal lock",
                detail=f"In the order {j.order} it keeps {np.degrees(margins[j.order]):.0f}° from lock over its range; in {best} {np.degrees(margins[best]):.0f}°.",
                joints=[j.name], mend=Mend(label=f"Turn in the order {best}", step="joints.set", params={"joint": j.name, "order": best}),
            )  # fmt: skip
