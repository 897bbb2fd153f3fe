"""How far joints may turn: limits, tables of normal ranges, and rotation orders.

The tables give whole ranges in words of the body; a joint's limits are turns from rest, so the bend that it has at
rest is taken off.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..character import Character, Freedom, Joint, opposite_name
from ..character.words import FINGERS
from ..errors import BadParameters, StepRefused
from ..geometry.rotations import matrix_from_quaternion
from .orient import bend_angle, bend_normal, bone_child, bone_frame, partner_values

Range = tuple[float, float]
"""Least and most, degrees."""


@dataclass(frozen=True)
class NormalRange:
    """A joint's normal range in degrees.  `bend` is about the hinge, from straight; None is not given there.

    `twist` is about the bone, `side` about the third axis.  `fixed` says that the joint is a pure hinge.  `neutral` is the
    angle between the bones at the table's zero; None where the joint swings every way and rest is taken as its zero.
    """

    bend: Range
    side: Range | None = None
    twist: Range | None = None
    fixed: bool = False
    neutral: float | None = 0.0


# American Academy of Orthopaedic Surgeons 1965, Joint NormalRange: Method of Measuring and Recording (from memory; the
# same figures stand in most textbooks of goniometry).
PEOPLE: dict[str, NormalRange] = {
    "upper_arm": NormalRange(
        (-60, 180), (-50, 180), (-90, 70), neutral=None
    ),  # extension–flexion, ad–abduction, turns outward–inward
    "forearm": NormalRange((0, 150), None, (-80, 80), True),  # elbow; pronation and supination ride on the forearm
    "hand": NormalRange((-70, 80), (-20, 30)),  # extension–flexion, radial–ulnar
    "thigh": NormalRange((-30, 120), (-30, 45), (-45, 45), neutral=None),
    "shin": NormalRange((0, 135), None, None, True),
    "foot": NormalRange(
        (-20, 50), (-35, 15), neutral=-90
    ),  # dorsi–plantar flexion from a foot square to the shin, in–eversion
    "ball": NormalRange((-70, 45), neutral=None),
    "thumb_1": NormalRange((-20, 15), (0, 70)),
    "thumb_2": NormalRange((0, 50), None, None, True),
    "thumb_3": NormalRange((-20, 80), None, None, True),
    "finger_1": NormalRange((-45, 90), (-20, 20)),
    "finger_2": NormalRange((0, 100), None, None, True),
    "finger_3": NormalRange((0, 90), None, None, True),
    "neck": NormalRange((-45, 45), (-45, 45), (-60, 60), neutral=None),
    "spine": NormalRange(
        (-25, 80), (-35, 35), (-45, 45), neutral=None
    ),  # of the whole trunk: shared out among its links
}

# Jaegger, Marcellin-Little & Levine 2002, Reliability of goniometry in Labrador Retrievers, table 1, goniometer, mean
# angles between the bones (from memory): flexed and extended; as bends, 180° less them.
DOG: dict[str, NormalRange] = {
    "upper_arm": NormalRange((180 - 165, 180 - 57), neutral=None),
    "forearm": NormalRange((180 - 165, 180 - 36), None, None, True),
    "hand": NormalRange((180 - 196, 180 - 32)),
    "thigh": NormalRange((180 - 162, 180 - 50), neutral=None),
    "shin": NormalRange((180 - 162, 180 - 41), None, None, True),
    "foot": NormalRange((180 - 164, 180 - 38), None, None, True),
}
TABLES: dict[str, tuple[str, dict[str, NormalRange]]] = {
    "people": ("normal ranges of people (AAOS 1965, from memory)", PEOPLE),
    "dog": ("a dog's ranges (Jaegger et al. 2002, from memory)", DOG),
}
STIFF_LINK = 10.0  # degrees either way for a stiff link of a spine (common practice)


def range_for(table: dict[str, NormalRange], role: str, links: int = 1) -> NormalRange | None:
    """The table's entry for a role; of a trunk or neck of several links each gets its share."""
    if role in table:
        return table[role]
    for finger in FINGERS:
        if role.startswith(f"{finger}_") and f"finger_{role[-1]}" in table:
            return table[f"finger_{role[-1]}"]
    for chain in ("spine", "neck"):
        if (role.startswith(chain) or (chain == "spine" and role == "chest")) and chain in table:
            m = table[chain]
            n = max(links, 1)
            bend, side, twist = (None if r is None else (r[0] / n, r[1] / n) for r in (m.bend, m.side, m.twist))
            assert bend is not None
            return NormalRange(bend, side, twist, neutral=m.neutral)
    return None


def rest_bend(character: Character, joint: Joint) -> float:
    """Radians by which a joint is bent at rest, positive where its hinge closes further; 0 without a bone before it."""
    if joint.parent is None:
        return 0.0
    above = character.joint(joint.parent)
    child = bone_child(character, joint)
    if child is None or bone_child(character, above) is not joint:
        return 0.0
    n = bend_normal(character, above, joint)
    a, b, c = (np.array(x.place) for x in (above, joint, child))
    angle = bend_angle(a, b, c)
    return angle if n is None or bone_frame(joint)[:, 2] @ n >= 0 else -angle


def with_freedom(character: Character, name: str, freedom: Freedom | None, both_sides: bool = True) -> Character:
    """A joint's freedom set, its partner's mirrored; kits take the limits over."""
    joint = character.joint(name)
    if freedom is not None:
        for low, high in zip(freedom.low, freedom.high, strict=True):
            if low is not None and high is not None and low > high:
                raise BadParameters("A lower limit lies above its upper one.", name, "Swap them.")
            if (low is not None and low > 0) or (high is not None and high < 0):
                raise BadParameters("The rest pose lies outside the limits.", name, "Let the range hold 0°.")
    changed = {name: joint.model_copy(update={"freedom": freedom})}
    partner = character.partner(name)
    if both_sides and partner:
        other = character.joint(partner)
        signs = partner_values(matrix_from_quaternion(joint.turn), matrix_from_quaternion(other.turn))
        changed[partner] = other.model_copy(update={"freedom": mirrored_freedom(freedom, signs)})
    return character.with_(joints=tuple(changed.get(j.name, j) for j in character.joints))


def mirrored_freedom(freedom: Freedom | None, signs: np.ndarray) -> Freedom | None:
    """The partner's freedom: each of its axes takes the range of the axis that `signs` (3, 3) maps to it."""
    if freedom is None:
        return None
    low: list[float | None] = []
    high: list[float | None] = []
    locked: list[bool] = []
    for row in signs:
        k = int(np.abs(row).argmax())
        a, b = freedom.low[k], freedom.high[k]
        if row[k] < 0:
            a, b = (None if b is None else -b), (None if a is None else -a)
        low.append(a)
        high.append(b)
        locked.append(freedom.locked[k])
    return freedom.model_copy(update={"low": tuple(low), "high": tuple(high), "locked": tuple(locked)})


def by_table(character: Character, table: str) -> Character:
    """Every joint whose role a table knows gets its range, less the bend it has at rest.

    Raises StepRefused where the table knows none of the roles.
    """
    if table not in TABLES:
        raise BadParameters(f"There is no table “{table}”.", "", f"There are: {', '.join(TABLES)}.")
    about, rows = TABLES[table]
    links = {
        c: sum(j.role.startswith(c) or (c == "spine" and j.role == "chest") for j in character.joints)
        for c in ("spine", "neck")
    }
    result = character
    known = 0
    for j in character.joints:
        if j.side == "R" and opposite_name(j.name) in character.joint_index:
            continue
        count = links["spine"] if j.role.startswith(("spine", "chest")) else links["neck"]
        motion = range_for(rows, j.role, count)
        if motion is None or not j.deforms:
            continue
        known += 1
        result = with_freedom(result, j.name, _freedom_of(result, result.joint(j.name), motion, about))
    if not known:
        raise StepRefused("The table knows none of these joints.", character.name, "Say what they are: their roles.")
    return result


def _freedom_of(character: Character, joint: Joint, motion: NormalRange, about: str) -> Freedom:
    low: list[float | None] = [None, None, None]
    high: list[float | None] = [None, None, None]
    locked = [False, False, False]
    aim, hinge = "xyz".index(joint.aim[-1]), "xyz".index(joint.hinge[-1])
    third = 3 - aim - hinge
    bend = 0.0 if motion.neutral is None else float(np.degrees(rest_bend(character, joint))) - motion.neutral
    for axis, given, sign, at in (
        (hinge, motion.bend, -1 if joint.hinge[0] == "-" else 1, bend),
        (third, motion.side, 1, 0.0), (aim, motion.twist, -1 if joint.aim[0] == "-" else 1, 0.0),
    ):  # fmt: skip
        if given is None:
            locked[axis] = motion.fixed
            continue
        a, b = sorted((sign * (given[0] - at), sign * (given[1] - at)))
        low[axis], high[axis] = float(np.radians(min(a, 0.0))), float(np.radians(max(b, 0.0)))
    return Freedom(low=tuple(low), high=tuple(high), locked=tuple(locked), source=about)


def off_middle(joint: Joint) -> float:
    """Radians between rest and the middle of the joint's range, on its widest axis; 0 without limits on both ends."""
    f = joint.freedom
    if f is None:
        return 0.0
    spans = [
        (b - a, 0.5 * abs(a + b))
        for a, b, k in zip(f.low, f.high, f.locked, strict=True)
        if a is not None and b is not None and not k
    ]
    return max(spans)[1] if spans else 0.0


# -- rotation order ----------------------------------------------------------------------------------------------
ORDERS = ("xyz", "xzy", "yxz", "yzx", "zxy", "zyx")


def gimbal_margins(joint: Joint, steps: int = 7) -> dict[str, float]:
    """For each rotation order, how far from gimbal lock the joint stays over its range: least margin, radians.

    The range is sampled in the joint's own order; without limits an axis is taken to turn by 60° either way.  Locked
    axes stay still.  At lock the middle of the three turns stands at 90° and the other two mean the same.
    """
    f = joint.freedom or Freedom()
    spans = []
    for k in range(3):
        if f.locked[k]:
            spans.append(np.zeros(1))
            continue
        a, b = f.low[k], f.high[k]
        low, high = (-np.pi / 3 if a is None else a), (np.pi / 3 if b is None else b)
        spans.append(np.linspace(low, high, steps))
    x, y, z = (g.ravel() for g in np.meshgrid(*spans, indexing="ij"))
    turns = np.eye(3)[None]
    for letter in joint.order:
        turns = _about(letter, {"x": x, "y": y, "z": z}[letter]) @ turns
    out = {}
    for order in ORDERS:
        first, last = "xyz".index(order[0]), "xyz".index(order[2])
        middle = np.arcsin(np.clip(np.abs(turns[:, last, first]), 0, 1))
        out[order] = float(np.pi / 2 - middle.max())
    return out


def _about(letter: str, angle: np.ndarray) -> np.ndarray:
    c, s = np.cos(angle), np.sin(angle)
    out = np.zeros((len(angle), 3, 3))
    k = "xyz".index(letter)
    i, j = (k + 1) % 3, (k + 2) % 3
    out[:, k, k] = 1
    out[:, i, i] = out[:, j, j] = c
    out[:, i, j], out[:, j, i] = -s, s
    return out


__all__ = [
    "DOG", "PEOPLE", "TABLES", "NormalRange", "by_table", "gimbal_margins", "mirrored_freedom", "range_for",
    "off_middle", "rest_bend", "with_freedom",
]  # fmt: skip
