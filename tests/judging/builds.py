"""Bodies of other builds than the demo cast's, grown from round cones whose ends are their joints.

Nothing of them was made by a plan, so their joints are known.  `NAMED` are the frozen bodies; those in `JUDGED` set no
constant of any plan (README.md says which were changed for since).  `grown(build)` gives the mesh, its plan, and the joints as the truth.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace

import numpy as np

from tests.bodies import round_cone
from vonkel.core.character import Character, Joint, opposite_name
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.measures import lengths_along
from vonkel.core.geometry.rotations import unit
from vonkel.core.joints.orient import turn_down_bones

SHEET = 0.009  # metres between the cones of a membrane
MIRROR = np.array([-1.0, 1.0, 1.0])


def v(x: float, y: float, z: float) -> np.ndarray:
    return np.array([x, y, z], float)


@dataclass
class Flesh:
    """Joints (left and middle) and the cones round them; what has x > 0 stands on both sides."""

    plan: str
    joints: dict[str, tuple[str | None, np.ndarray, str, bool]] = field(default_factory=dict)
    cones: list[tuple[np.ndarray, np.ndarray, float, float]] = field(default_factory=list)

    def joint(self, name: str, parent: str | None, place: np.ndarray, role: str = "", deforms: bool = True) -> str:
        self.joints[name] = (parent, np.asarray(place, float), role or name, deforms)
        return name

    def cone(self, a: np.ndarray, b: np.ndarray, ra: float, rb: float) -> None:
        self.cones.append((np.asarray(a, float), np.asarray(b, float), ra, rb))

    def chain(self, stem: str, parent: str, places: list[np.ndarray], tag: str = "") -> None:
        for i, p in enumerate(places):
            end = i == len(places) - 1
            name = f"{stem}_end{tag}" if end else f"{stem}_{i + 1}{tag}"
            parent = self.joint(name, parent, p, f"{stem}_end" if end else f"{stem}_{i + 1}", not end)

    def sheet(self, a: np.ndarray, p: np.ndarray, c: np.ndarray, q: np.ndarray, sag: float = 0.0) -> None:
        """A membrane between the edges a–p and c–q, a row of thin cones; its free edge p–q is drawn in by the share `sag`."""
        wide = max(float(np.linalg.norm(p - q)), float(np.linalg.norm(a - c)))
        for t in np.linspace(0, 1, int(wide / SHEET) + 2):
            root, tip = a + t * (c - a), p + t * (q - p)
            self.cone(root, tip - 4 * t * (1 - t) * sag * (tip - root), 0.8 * SHEET, 0.8 * SHEET)

    def tube(self, places: list[np.ndarray], radii: list[float]) -> None:
        for a, b, ra, rb in zip(places[:-1], places[1:], radii[:-1], radii[1:], strict=True):
            self.cone(a, b, ra, rb)


@dataclass(frozen=True)
class Upright:
    """A body on two legs; lengths are metres for a body of about 1.7."""

    hip: tuple[float, float] = (0.095, 0.90)
    thigh: float = 0.42
    shin: float = 0.41
    thick: tuple[float, float, float] = (0.085, 0.058, 0.04)  # thigh, knee, ankle
    foot: float = 0.22
    hock: float = 0.0  # how far the leg's foot is raised: a second bend backwards
    trunk: float = 0.52  # hips to neck
    lean: float = 0.0  # degrees by which the trunk leans forward
    girth: tuple[float, float, float] = (0.13, 0.11, 0.125)  # hips, waist, chest
    shoulder: float = 0.19  # from the middle
    arm: tuple[float, float, float] = (0.29, 0.25, 0.18)
    arm_thick: tuple[float, float, float] = (0.052, 0.04, 0.028)
    droop: float = 35.0
    neck: tuple[float, float] = (0.09, 0.055)
    head: tuple[float, float] = (0.24, 0.10)  # length, radius
    muzzle: float = 0.0
    ears: float = 0.0
    horns: float = 0.0
    tail: float = 0.0
    fingers: int = 0


def upright(b: Upright) -> Flesh:
    f = Flesh("biped")
    hip = v(b.hip[0], b.hip[1], 0)
    way = np.radians(b.lean)
    up, ahead = v(0, np.cos(way), np.sin(way)), v(0, -np.sin(way), np.cos(way))
    hips = v(0, hip[1], 0) + 0.035 * up
    neck = hips + b.trunk * up
    head = neck + b.neck[0] * (up + 0.5 * v(0, 1, 0)) / 1.5
    top = head + b.head[0] * (v(0, 1, 0) + (0.0 if b.lean < 30 else 0.5) * v(0, 0, 1)) / (1 if b.lean < 30 else 1.118)
    f.joint("hips", None, hips)
    last = "hips"
    for i in range(3):
        last = f.joint("chest" if i == 2 else f"spine_{i + 1}", last, hips + 0.68 * (i + 1) / 3 * (neck - hips))
    f.joint("neck", "chest", neck)
    f.joint("head", "neck", head)
    f.joint("head_end", "head", top, "", False)
    chest, mid = hips + 0.72 * (neck - hips), hips + 0.4 * (neck - hips)
    f.cone(hips + v(0.4 * b.hip[0], 0, 0), chest, b.girth[0], b.girth[2])
    f.cone(hips, mid, b.girth[0], b.girth[1])
    f.cone(mid, chest, b.girth[1], b.girth[2])
    f.cone(chest, neck, 0.8 * b.girth[2], b.neck[1])
    f.cone(neck, head, b.neck[1], b.neck[1])
    ball = head + 0.55 * (top - head)
    f.cone(head + 0.3 * (top - head), ball, 0.85 * b.head[1], b.head[1])
    f.cone(ball, top - b.head[1] * 0.95 * (top - head) / np.linalg.norm(top - head), b.head[1], 0.95 * b.head[1])
    face = v(0, 0, 1)
    if b.muzzle:
        f.cone(ball, ball + b.muzzle * (face - 0.25 * v(0, 1, 0)), 0.7 * b.head[1], 0.4 * b.head[1])
    else:
        f.cone(
            head + 0.25 * (top - head) + 0.35 * b.head[1] * face,
            ball + 0.3 * b.head[1] * face,
            0.5 * b.head[1],
            0.7 * b.head[1],
        )
    ear = ball + v(0.7 * b.head[1], 0.6 * b.head[1], 0)
    if b.ears:
        tip = ear + b.ears * v(0.45, 0.9, 0)
        f.tube([ear, ear + 0.5 * (tip - ear), tip], [0.32 * b.head[1], 0.3 * b.head[1], 0.12 * b.head[1]])
        f.joint("ear_L", "head", ear, "ear")
        f.joint("ear_end_L", "ear_L", tip, "ear_end", False)
    if b.horns:
        root = ball + v(0.35 * b.head[1], 0.85 * b.head[1], 0.2 * b.head[1])
        f.tube(
            [root, root + b.horns * v(0.3, 0.6, 0.1), root + b.horns * v(0.4, 1.0, 0.45)],
            [0.22 * b.head[1], 0.16 * b.head[1], 0.05 * b.head[1]],
        )
    _arm(f, b, neck, up, ahead)
    _leg(f, b, hip)
    if b.tail:
        root = hips - 0.75 * b.girth[0] * v(0, 0, 1)
        places = [root + b.tail * t * v(0, -0.4 + 0.35 * t, -0.9) for t in np.linspace(0, 1, 7)]
        f.tube([hips, *places], [0.8 * b.girth[0], *np.linspace(0.55 * b.girth[0], 0.2 * b.girth[0], 7)])
        f.chain("tail", "hips", places)
    return f


def _arm(f: Flesh, b: Upright, neck: np.ndarray, up: np.ndarray, ahead: np.ndarray) -> None:
    a = np.radians(b.droop)
    way = v(np.cos(a), 0, 0) - np.sin(a) * up
    s = neck - 0.055 * up + v(b.shoulder, 0, 0)
    elbow = s + b.arm[0] * way - 0.02 * ahead
    wrist = elbow + b.arm[1] * (way + 0.12 * ahead) / np.linalg.norm(way + 0.12 * ahead)
    on = (way + 0.12 * ahead) / np.linalg.norm(way + 0.12 * ahead)
    tip = wrist + b.arm[2] * on
    chest = "chest"
    f.joint("collar_L", chest, neck - 0.06 * up + v(0.3 * b.shoulder, 0, 0), "collar")
    f.joint("upper_arm_L", "collar_L", s, "upper_arm")
    f.joint("forearm_L", "upper_arm_L", elbow, "forearm")
    f.joint("hand_L", "forearm_L", wrist, "hand")
    f.cone(neck - 0.1 * up, s, 0.75 * b.girth[2], b.arm_thick[0] * 1.05)
    f.tube([s, elbow, wrist], list(b.arm_thick))
    r = b.arm_thick[2]
    if not b.fingers:
        f.joint("hand_end_L", "hand_L", tip, "hand_end", False)
        f.tube([wrist, wrist + 0.55 * (tip - wrist), tip - 0.7 * r * on], [r, 1.15 * r, 0.7 * r])
        return
    palm = wrist + 0.5 * b.arm[2] * on
    f.cone(wrist, palm, r, 1.1 * r)
    names = {2: ["index", "ring"], 3: ["index", "middle", "ring"], 4: ["index", "middle", "ring", "little"]}[
        b.fingers - 1
    ]
    thick = 0.32 * r
    spread = np.linspace(1, -1, len(names))
    for name, k in zip(names, spread, strict=True):
        root = palm + 1.25 * r * k * ahead
        end = root + b.arm[2] * (0.5 - 0.06 * k * k) * (on + 0.12 * k * ahead)
        f.cone(wrist + 0.5 * (palm - wrist), root, 0.7 * r, 1.1 * thick)
        f.tube([root, end - thick * on], [thick, 0.8 * thick])
        _digit(f, name, root, end)
    root = wrist + 0.15 * b.arm[2] * on + 0.9 * r * ahead
    end = root + 0.42 * b.arm[2] * (0.75 * on + 0.75 * ahead)
    f.cone(root, end, 1.15 * thick, 0.85 * thick)
    _digit(f, "thumb", root, end)


def _digit(f: Flesh, name: str, root: np.ndarray, end: np.ndarray) -> None:
    last = "hand_L"
    start = root - 0.1 * (end - root)
    for i, t in enumerate((0.0, 0.45, 0.74)):
        last = f.joint(f"{name}_{i + 1}_L", last, start + t * (end - start), f"{name}_{i + 1}")
    f.joint(f"{name}_end_L", last, end, f"{name}_end", False)


def _leg(f: Flesh, b: Upright, hip: np.ndarray) -> None:
    bend = 0.03 + b.hock
    knee = hip + b.thigh * v(0.02, -np.sqrt(max(1 - bend**2 - 0.0004, 0.1)), bend)
    ankle = knee + b.shin * v(0.0, -np.sqrt(1 - (bend * 1.25) ** 2), -bend * 1.25)
    sole = 0.0
    r = b.thick[2]
    toe = v(ankle[0] + 0.01, sole + 0.5 * r, ankle[2] + 0.72 * b.foot + 0.5 * b.hock * b.foot)
    heel = v(ankle[0], sole + 0.8 * r if b.hock < 0.2 else ankle[1], ankle[2] - 0.2 * b.foot * (b.hock < 0.2))
    f.joint("thigh_L", "hips", hip, "thigh")
    f.joint("shin_L", "thigh_L", knee, "shin")
    f.joint("foot_L", "shin_L", ankle, "foot")
    ball = heel + 0.72 * (toe - heel)
    ball[1] = sole + 0.6 * r
    f.joint("ball_L", "foot_L", ball, "ball")
    f.joint("toe_end_L", "ball_L", toe + v(0, 0, 0.5 * r), "toe_end", False)
    f.tube([hip, knee, ankle], list(b.thick))
    f.cone(hip, v(0, hip[1] + 0.03, 0), b.thick[0], 0.9 * b.girth[0])
    if b.hock < 0.2:
        f.cone(ankle, heel, r, 0.85 * r)
        f.cone(heel, toe, 0.8 * r, 0.5 * r)
    else:
        f.tube([ankle, ball, toe], [r, 0.75 * r, 0.5 * r])


@dataclass(frozen=True)
class OnFour:
    """A body on four legs, facing +Z; lengths are metres."""

    long: float = 0.62  # hips to shoulders
    high: tuple[float, float] = (0.52, 0.50)  # of hip and shoulder joints
    apart: float = 0.105
    leg: tuple[float, float, float] = (0.085, 0.045, 0.034)  # radii at thigh, hock, foot
    bent: float = 0.3  # how far knee and hock stand off the line
    foot: tuple[float, float] = (0.28, 0.09)  # heights of hock and ball as shares of the hip's
    girth: tuple[float, float, float] = (0.14, 0.15, 0.155)
    neck: tuple[float, float, float, float] = (0.30, 40.0, 0.085, 0.06)  # length, degrees up, radii
    head: tuple[float, float, float] = (0.24, 0.075, 0.045)  # length, radii of skull and muzzle
    nod: float = 25.0
    tail: tuple[float, float, float] = (0.4, -20.0, 0.035)  # length, degrees up, radius
    ears: float = 0.08
    ears_out: float = 0.35
    horns: float = 0.0
    trunk: float = 0.0


def on_four(b: OnFour) -> Flesh:
    f = Flesh("quadruped")
    zh, zf = -0.5 * b.long, 0.5 * b.long
    gh, gw, gc = b.girth
    back_h, back_f = b.high[0] + 0.45 * gh, b.high[1] + 0.35 * gc
    hips = v(0, back_h, zh - 0.02)
    end = v(0, back_f + 0.02, zf + 0.13 * b.long)
    f.joint("hips", None, hips)
    last = "hips"
    for i in range(4):
        p = hips + (i + 1) / 5 * (end - hips)
        last = f.joint("chest" if i == 3 else f"spine_{i + 1}", last, p)
    low = v(0, -0.35 * gh, 0)
    f.cone(hips + low, v(0, 0.5 * (back_h + back_f) - 0.3 * gw, 0), gh, gw)
    f.cone(v(0, 0.5 * (back_h + back_f) - 0.3 * gw, 0), v(0, back_f - 0.35 * gc, zf), gw, gc)
    f.cone(v(0, back_f - 0.35 * gc, zf), end - v(0, 0.15 * gc, 0), gc, 1.1 * b.neck[2])
    a = np.radians(b.neck[1])
    base = end
    nape = base + b.neck[0] * v(0, np.sin(a), np.cos(a))
    for i in range(3):
        last = f.joint(f"neck_{i + 1}", last, base + i / 3 * (nape - base), "neck")
    f.tube([base - v(0, 0.1 * gc, 0), nape], [b.neck[2], b.neck[3]])
    n = np.radians(b.nod)
    way = v(0, -np.sin(n), np.cos(n))
    muzzle = nape + b.head[0] * way
    f.joint("head", last, nape)
    f.joint("head_end", "head", muzzle, "", False)
    skull = nape + 0.3 * b.head[0] * way
    f.cone(nape, skull, 0.9 * b.head[1], b.head[1])
    f.cone(skull, muzzle - b.head[2] * way, b.head[1], b.head[2])
    brow = skull + v(0.6 * b.head[1], 0.7 * b.head[1], -0.2 * b.head[1])
    if b.ears:
        tip = brow + b.ears * v(np.sin(b.ears_out * 1.5), np.cos(b.ears_out * 1.5), -0.15)
        f.tube([brow, 0.5 * (brow + tip), tip], [0.3 * b.head[1], 0.3 * b.head[1], 0.1 * b.head[1]])
        f.joint("ear_L", "head", brow, "ear")
        f.joint("ear_end_L", "ear_L", tip, "ear_end", False)
    if b.horns:
        root = skull + v(0.35 * b.head[1], 0.85 * b.head[1], 0.1 * b.head[1])
        f.tube([root, root + b.horns * v(0.3, 0.6, -0.25), root + b.horns * v(0.6, 0.8, -0.8)], [0.025, 0.02, 0.008])
    if b.trunk:
        places = [muzzle + b.trunk * t * v(0, -1 + 0.25 * t, 0.25 + 0.2 * t) for t in np.linspace(-0.05, 1, 6)]
        f.tube(places, list(np.linspace(b.head[2], 0.4 * b.head[2], 6)))
    for fore in (False, True):
        _paw(f, b, fore, zf if fore else zh, back_f if fore else back_h)
    if b.tail[0]:
        a = np.radians(b.tail[1])
        root = hips + v(0, 0.05 * gh, -0.8 * gh)
        places = [root + b.tail[0] * t * v(0, np.sin(a) * (0.4 + 0.6 * t), -np.cos(a)) for t in np.linspace(0, 1, 7)]
        f.tube([hips, *places], [0.5 * gh, *np.linspace(b.tail[2], 0.45 * b.tail[2], 7)])
        f.chain("tail", "hips", places)
    return f


def _paw(f: Flesh, b: OnFour, fore: bool, z: float, back: float) -> None:
    top = b.high[1] if fore else b.high[0]
    x = b.apart
    s = -1 if fore else 1  # knees go forward, elbows backward
    hip = v(x, top, z + (0.06 if fore else -0.02))
    hock_y, ball_y = b.foot[0] * top, b.foot[1] * top
    if fore:
        hock_y *= 0.85
    knee_y = hock_y + (top - hock_y) * (0.52 if fore else 0.48)
    knee = v(x * 1.03, knee_y, hip[2] + s * b.bent * (top - knee_y) * 0.55)
    hock = v(x * 1.05, hock_y, z - (0.0 if fore else b.bent * 0.35 * (knee_y - hock_y)) - (0.0 if fore else 0.02))
    ball = v(x * 1.05, ball_y, hock[2] + 0.15 * hock_y)
    toe = v(x * 1.06, 0.8 * b.leg[2], ball[2] + 1.6 * b.leg[2])
    names = (
        ("upper_arm", "forearm", "hand", "fore_ball", "fore_toe_end")
        if fore
        else ("thigh", "shin", "foot", "ball", "toe_end")
    )
    parent = "hips"
    if fore:
        parent = f.joint("collar_L", "chest", v(0.5 * x, back + 0.05, z), "collar")
    places = [hip, knee, hock, ball]
    for name, p in zip(names, places, strict=False):
        parent = f.joint(f"{name}_L", parent, p, name)
    f.joint(f"{names[4]}_L", parent, toe + v(0, 0, 0.8 * b.leg[2]), names[4], False)
    f.cone(v(0, top + 0.1, z), hip, 0.8 * b.girth[2 if fore else 0], b.leg[0])
    f.tube([hip, knee, hock, ball, toe], [b.leg[0], 0.62 * b.leg[0] + 0.3 * b.leg[1], b.leg[1], b.leg[2], b.leg[2]])
    f.cone(ball, v(ball[0], b.leg[2], ball[2]), b.leg[2], b.leg[2])


@dataclass(frozen=True)
class OnMany:
    pairs: int = 4
    long: float = 0.5
    girth: float = 0.13
    leg: tuple[float, float, float] = (0.28, 0.32, 0.03)  # reach, knees' height, radius
    feelers: float = 0.0
    abdomen: float = 0.35


def on_many(b: OnMany) -> Flesh:
    f = Flesh("many-legged")
    y = 0.28
    zs = np.linspace(0.36, -0.36, b.pairs) * b.long
    f.joint("thorax", None, v(0, y, float(zs.mean())), "hips")
    front = zs[0] + 0.1
    f.joint("fore_thorax", "thorax", v(0, y, 0.5 * (zs[0] + front)), "chest")
    f.joint("head", "fore_thorax", v(0, y, front))
    f.joint("head_end", "head", v(0, y, front + 1.3 * b.girth), "", False)
    f.cone(v(0, y, zs[0]), v(0, y, zs[-1]), 0.75 * b.girth, 0.7 * b.girth)
    f.cone(v(0, y, front), v(0, y, front + 0.5 * b.girth), 0.5 * b.girth, 0.8 * b.girth)
    rear = zs[-1] - 0.09
    places = [v(0, y + 0.05 * t, rear - b.abdomen * t) for t in np.linspace(0, 1, 4)]
    f.chain("abdomen", "thorax", places)
    f.tube(
        [v(0, y, zs[-1]), *places[:3], places[3] + v(0, 0, 0.6 * b.girth)],
        [0.55 * b.girth, 0.5 * b.girth, 1.2 * b.girth, 1.2 * b.girth, 0.6 * b.girth],
    )
    for i, z in enumerate(zs):
        way = np.radians(np.linspace(35, -35, b.pairs)[i])
        out = v(np.cos(way), 0, np.sin(way))
        root = v(0, y, z) + 0.7 * b.girth * out
        knee = root + 0.45 * b.leg[0] * out + v(0, b.leg[1] - 0.1, 0)
        ankle = root + 1.05 * b.leg[0] * out + v(0, -0.12, 0)
        tip = root + 1.3 * b.leg[0] * out
        tip[1] = b.leg[2] * 0.5
        n = i + 1
        parent = "fore_thorax" if i < b.pairs / 2 - 0.5 and b.pairs > 2 else "thorax"
        for name, p in (("thigh", root), ("shin", knee), ("foot", ankle)):
            parent = f.joint(f"{name}_{n}_L", parent, p, name)
        f.joint(f"toe_end_{n}_L", parent, tip, "toe_end", False)
        f.tube([v(0, y, z), root, knee, ankle, tip], [0.03, *(b.leg[2] * k for k in (1.1, 1.0, 0.8, 0.5))])
    if b.feelers:
        root = v(0.4 * b.girth, y + 0.4 * b.girth, front + 0.9 * b.girth)
        places = [root + b.feelers * t * v(0.45, 0.55 - 0.35 * t, 0.7) for t in np.linspace(0, 1, 6)]
        f.tube([v(0, y, front + 0.4 * b.girth), *places], [0.03, *np.linspace(0.02, 0.012, 6)])
        f.chain("feeler", "head", places, "_L")
    return f


@dataclass(frozen=True)
class Swimming:
    long: float = 1.4
    girth: float = 0.17
    fins: float = 0.32
    flukes: float = 0.0
    snout: float = 0.16


def swimming(b: Swimming) -> Flesh:
    f = Flesh("finned")
    y = b.girth
    zc = 0.18 * b.long
    end = v(0, y, -0.5 * b.long)
    hips = end + 0.55 * v(0, 0, zc + 0.5 * b.long)  # a fish has no hips: the root stands there by convention
    chest = v(0, y, zc)
    head, nose = v(0, y + 0.02, zc + 0.18 * b.long), v(0, y, zc + 0.18 * b.long + b.snout + 0.1)
    f.joint("hips", None, hips)
    last = "hips"
    for i in range(3):
        last = f.joint("chest" if i == 2 else f"spine_{i + 1}", last, hips + (i + 1) / 3 * (chest - hips))
    f.joint("neck", "chest", 0.6 * chest + 0.4 * head)
    f.joint("head", "neck", head)
    f.joint("head_end", "head", nose, "", False)
    f.chain("tail", "hips", [hips + t * (end - hips) for t in np.linspace(0.16, 1, 5)])
    f.tube([end, hips, chest, head, nose - v(0, 0, 0.05)], [0.05, b.girth, 1.1 * b.girth, 0.62 * b.girth, 0.05])
    root = chest + v(0.75 * b.girth, -0.4 * b.girth, 0.0)
    tip = root + b.fins * v(0.85, -0.12, -0.5)
    f.tube([chest, root, 0.5 * (root + tip), tip], [0.09, 0.06, 0.055, 0.03])
    f.chain("fin", "chest", [root + t * (tip - root) for t in (0, 0.34, 0.67, 1)], "_L")
    if b.flukes:
        f.tube(
            [end + v(0, 0, 0.05), end + b.flukes * v(0.5, 0, -0.3), end + b.flukes * v(1, 0, -0.35)], [0.05, 0.04, 0.02]
        )
    return f


@dataclass(frozen=True)
class Line:
    long: float = 1.6
    girth: float = 0.06
    sway: float = 0.2


def line(b: Line) -> Flesh:
    f = Flesh("chain")
    at = lambda t: v(b.sway * np.sin(5 * t), b.girth, b.long * (t - 0.5))  # noqa: E731
    t = np.linspace(0, 1, 41)
    p = np.array([at(x) for x in t])
    s = lengths_along(p)
    places = [np.array([np.interp(q, s, p[:, k]) for k in range(3)]) for q in np.linspace(s[-1] / 22, s[-1], 11)]
    parent: str | None = None
    for i, q in enumerate(places[:-1]):
        parent = f.joint(f"chain_{i + 1}", parent, q)
    f.joint("chain_end", parent, places[-1], "", False)
    radii = b.girth * np.interp(t, [0, 0.15, 0.8, 0.88, 1], [0.35, 0.9, 1, 1.25, 0.8])
    f.tube(list(p), list(radii))
    return f


@dataclass(frozen=True)
class Flying:
    """A body with wings on two short legs; lengths are metres."""

    trunk: float = 0.4
    girth: float = 0.1
    lean: float = 10.0  # degrees by which the trunk leans forward
    legs: tuple[float, float] = (0.22, 0.03)  # length, radius at the ankle
    neck: tuple[float, float] = (0.1, 0.05)  # length, radius
    head: tuple[float, float, float] = (0.16, 0.07, 0.0)  # length, radius, muzzle
    ears: float = 0.0
    tail: float = 0.0
    arm: tuple[float, float, float] = (0.2, 0.24, 0.03)  # upper arm, forearm, radius
    fold: float = 35.0  # degrees by which the elbow is bent, and the wrist back
    drop: float = 10.0  # degrees by which the upper arm hangs below level
    fingers: int = 3  # none: the wing ends in feathers
    reach: float = 0.5  # of the longest finger, or of the feathers beyond the wrist
    chord: float = 0.35  # how far the wing hangs behind the arm


def flying(b: Flying) -> Flesh:
    f = Flesh("winged")
    hip = v(0.55 * b.girth, b.legs[0], 0.0)
    way = np.radians(b.lean)
    up = v(0, np.cos(way), np.sin(way))
    hips = v(0, hip[1] + 0.02, 0)
    neck = hips + b.trunk * up
    head = neck + b.neck[0] * unit(up + 0.6 * v(0, 1, 0))
    top = head + b.head[0] * v(0, 1, 0)
    last = f.joint("hips", None, hips)
    for i in range(3):
        last = f.joint("chest" if i == 2 else f"spine_{i + 1}", last, hips + 0.68 * (i + 1) / 3 * (neck - hips))
    f.joint("neck", "chest", neck)
    f.joint("head", "neck", head)
    f.joint("head_end", "head", top, "", False)
    chest = hips + 0.72 * (neck - hips)
    f.tube([hips, chest, neck, head], [b.girth, 1.1 * b.girth, 1.15 * b.neck[1], b.neck[1]])
    ball = head + 0.5 * (top - head)
    f.cone(head + 0.2 * (top - head), ball, 0.9 * b.head[1], b.head[1])
    f.cone(ball, top - v(0, 0.9 * b.head[1], 0), b.head[1], 0.9 * b.head[1])
    f.cone(ball, ball + (0.4 * b.head[1] + b.head[2]) * v(0, -0.2, 1), 0.75 * b.head[1], 0.4 * b.head[1])
    if b.ears:
        ear = ball + v(0.6 * b.head[1], 0.7 * b.head[1], 0)
        tip = ear + b.ears * v(0.4, 0.9, 0)
        f.tube([ear, tip], [0.35 * b.head[1], 0.15 * b.head[1]])
        f.joint("ear_L", "head", ear, "ear")
        f.joint("ear_end_L", "ear_L", tip, "ear_end", False)
    r = b.legs[1]
    knee = hip + v(0.01, -0.5 * b.legs[0], 0.12 * b.legs[0])
    ankle = v(hip[0] + 0.01, 0.16 * b.legs[0], -0.04 * b.legs[0])
    toe = v(ankle[0] + 0.01, 0.6 * r, ankle[2] + 2.6 * r + 0.16 * b.legs[0])
    for name, parent, p in (("thigh", "hips", hip), ("shin", "thigh_L", knee), ("foot", "shin_L", ankle)):
        f.joint(f"{name}_L", parent, p, name)
    f.joint("ball_L", "foot_L", 0.45 * ankle * [1, 0, 1] + 0.55 * toe + v(0, 0.1 * r, 0), "ball")
    f.joint("toe_end_L", "ball_L", toe + v(0, 0, 0.6 * r), "toe_end", False)
    f.cone(hips, hip, 0.9 * b.girth, 1.9 * r)
    f.tube([hip, knee, ankle, toe], [1.9 * r, 1.4 * r, r, 0.6 * r])
    if b.tail:
        root = hips - 0.7 * b.girth * v(0, 0.3, 1)
        places = [root + b.tail * t * v(0, -0.35 + 0.2 * t, -0.9) for t in np.linspace(0, 1, 5)]
        f.tube([hips, *places], [0.6 * b.girth, *np.linspace(0.4 * b.girth, 0.16 * b.girth, 5)])
        f.chain("tail", "hips", places)
    _wing(f, b, neck, hips, up)
    return f


def _wing(f: Flesh, b: Flying, neck: np.ndarray, hips: np.ndarray, up: np.ndarray) -> None:
    back = v(0, -1.0, -0.12)  # where the wing hangs
    r = b.arm[2]

    def swung(degrees: float) -> np.ndarray:
        a = np.radians(degrees)
        return v(np.cos(a), np.sin(a), -0.08)

    shoulder = neck - 0.06 * up + v(0.75 * b.girth, 0, -0.01)
    elbow = shoulder + b.arm[0] * swung(-b.drop)
    wrist = elbow + b.arm[1] * swung(b.fold - b.drop)
    f.joint("collar_L", "chest", neck - 0.06 * up + v(0.25 * b.girth, 0, 0), "collar")
    for name, parent, p in (
        ("upper_arm", "collar_L", shoulder),
        ("forearm", "upper_arm_L", elbow),
        ("hand", "forearm_L", wrist),
    ):
        f.joint(f"{name}_L", parent, p, name)
    f.cone(neck - 0.1 * up, shoulder, 0.7 * b.girth, 1.4 * r)
    f.tube([shoulder, elbow, wrist], [1.4 * r, 1.1 * r, 0.85 * r])
    ends: list[np.ndarray] = []
    for k in range(max(b.fingers, 1)):
        turn = 0.6 * b.fold - b.drop - (0 if b.fingers < 2 else 105 * k / b.fingers)
        tip = wrist + b.reach * (1 - 0.12 * k) * swung(turn)
        ends.append(tip)
        places = [wrist + t * (tip - wrist) + 0.05 * b.reach * t * (1 - t) * back for t in (0.03, 0.3, 0.64, 1.0)]
        f.tube([wrist, *places[1:]], [0.8 * r, 0.55 * r, 0.42 * r, 0.3 * r])
        f.chain(f"wing_{k + 1}", "hand_L", places, "_L")
    # The membrane: fingers, the arm, and the flank, their edges drawn in between.
    flank = hips + v(0.7 * b.girth, 0.1 * b.trunk, -0.3 * b.girth)
    low = [flank - 0.6 * b.chord * v(0, 0.4, 0)] if b.fingers else [shoulder + b.chord * back]
    rows = [(wrist, e) for e in ends]
    if b.fingers < 2:
        rows = [
            (wrist, wrist + 0.9 * b.chord * back),
            *(
                (wrist + t * (ends[0] - wrist), wrist + t * (ends[0] - wrist) + (0.9 - 0.75 * t * t) * b.chord * back)
                for t in (0.5, 0.97)
            ),
        ][::-1]
    edge = rows[-1][1]
    rows += [(elbow, 0.55 * edge + 0.45 * low[0] + 0.12 * b.chord * v(0, 1, 0) * bool(b.fingers)), (shoulder, low[0])]
    for (a, p), (c, q) in zip(rows[:-1], rows[1:], strict=True):
        f.sheet(a, p, c, q, sag=0.12 if b.fingers else 0.0)


Build = Upright | OnFour | OnMany | Swimming | Line | Flying
GROW: dict[type, Callable[..., Flesh]] = {
    Upright: upright, OnFour: on_four, OnMany: on_many, Swimming: swimming, Line: line, Flying: flying,
}  # fmt: skip

# For setting constants and for calibrating.
TRIED: dict[str, Build] = {
    "porter": Upright(girth=(0.2, 0.22, 0.19), hip=(0.12, 0.72), thigh=0.33, shin=0.32, thick=(0.11, 0.08, 0.06), shoulder=0.24, arm=(0.24, 0.21, 0.16), arm_thick=(0.075, 0.055, 0.04), head=(0.26, 0.13)),
    "runner": Upright(lean=62, hock=0.42, hip=(0.1, 0.78), thigh=0.36, shin=0.38, trunk=0.55, tail=0.7, muzzle=0.16, neck=(0.2, 0.06), head=(0.2, 0.08), arm=(0.17, 0.15, 0.11), arm_thick=(0.035, 0.028, 0.02), shoulder=0.12, droop=60),
    "imp": Upright(hip=(0.09, 0.5), thigh=0.23, shin=0.22, trunk=0.36, head=(0.34, 0.17), horns=0.2, tail=0.6, ears=0.16, fingers=4, arm=(0.2, 0.18, 0.17), arm_thick=(0.04, 0.033, 0.03), girth=(0.11, 0.1, 0.11), shoulder=0.14),
    "hound": OnFour(),
    "badger": OnFour(high=(0.28, 0.27), apart=0.075, leg=(0.066, 0.048, 0.042), bent=0.18, girth=(0.13, 0.14, 0.13), neck=(0.14, 15.0, 0.09, 0.075), tail=(0.22, 5.0, 0.04), ears=0.05),
    "ram": OnFour(horns=0.24, high=(0.6, 0.58), leg=(0.09, 0.036, 0.03), foot=(0.42, 0.13), neck=(0.26, 55.0, 0.09, 0.065), tail=(0.14, -50.0, 0.03), ears_out=0.9),
    "spinner": OnMany(pairs=4),
    "carp": Swimming(girth=0.2, flukes=0.22),
    "eel": Line(),
    "stalker": Upright(lean=78, hock=0.35, hip=(0.11, 0.7), thigh=0.33, shin=0.34, trunk=0.6, tail=0.85, muzzle=0.2, neck=(0.28, 0.07), head=(0.22, 0.09), arm=(0.2, 0.17, 0.12), arm_thick=(0.04, 0.03, 0.024), shoulder=0.13, droop=70),
    "leveret": Upright(hip=(0.08, 0.45), thigh=0.2, shin=0.2, trunk=0.4, head=(0.26, 0.13), ears=0.42, arm=(0.15, 0.13, 0.09), arm_thick=(0.04, 0.034, 0.03), girth=(0.15, 0.14, 0.12), shoulder=0.13, tail=0.0),
    "heron-neck": OnFour(neck=(0.85, 62.0, 0.1, 0.055), high=(0.75, 0.78), leg=(0.1, 0.045, 0.038), foot=(0.38, 0.11), head=(0.26, 0.075, 0.045), tail=(0.5, -55.0, 0.03), horns=0.08),
    "otterhound": OnFour(high=(0.2, 0.19), apart=0.062, leg=(0.068, 0.05, 0.045), long=0.75, bent=0.14, girth=(0.115, 0.12, 0.12), neck=(0.16, 30.0, 0.075, 0.06), tail=(0.45, 20.0, 0.035)),
    "tapir": OnFour(trunk=0.42, girth=(0.24, 0.27, 0.25), high=(0.55, 0.55), apart=0.15, leg=(0.12, 0.085, 0.085), foot=(0.24, 0.08), bent=0.12, neck=(0.16, 25.0, 0.16, 0.13), head=(0.3, 0.14, 0.07), nod=35, ears=0.3, ears_out=0.95, tail=(0.35, -65.0, 0.03)),
    "hare": OnFour(ears=0.32, ears_out=0.15, high=(0.3, 0.26), leg=(0.085, 0.035, 0.03), foot=(0.3, 0.1), bent=0.42, long=0.4, neck=(0.13, 45.0, 0.07, 0.055), head=(0.17, 0.07, 0.045), tail=(0.07, 35.0, 0.04), girth=(0.13, 0.12, 0.1)),
}  # fmt: skip
# Judged only; which of them a change has been made for since is said in README.md.
JUDGED: dict[str, Build] = {
    "warden": Upright(girth=(0.24, 0.27, 0.22), hip=(0.13, 0.62), thigh=0.28, shin=0.27, thick=(0.12, 0.085, 0.065), shoulder=0.27, arm=(0.26, 0.24, 0.18), arm_thick=(0.085, 0.065, 0.045), head=(0.28, 0.15), neck=(0.05, 0.1), droop=45),
    "reed": Upright(girth=(0.085, 0.065, 0.085), hip=(0.075, 1.02), thigh=0.5, shin=0.48, thick=(0.05, 0.036, 0.026), shoulder=0.15, arm=(0.36, 0.33, 0.22), arm_thick=(0.034, 0.027, 0.021), head=(0.2, 0.075), neck=(0.14, 0.036), fingers=5, trunk=0.5),
    "strider": Upright(lean=70, hock=0.4, hip=(0.13, 0.82), thigh=0.4, shin=0.38, trunk=0.62, tail=0.6, muzzle=0.12, neck=(0.36, 0.065), head=(0.2, 0.085), arm=(0.22, 0.2, 0.14), arm_thick=(0.045, 0.034, 0.026), shoulder=0.16, droop=40),
    "jerboa": Upright(hip=(0.07, 0.4), thigh=0.19, shin=0.17, trunk=0.34, head=(0.22, 0.12), ears=0.3, tail=0.5, arm=(0.13, 0.11, 0.08), arm_thick=(0.034, 0.028, 0.025), girth=(0.13, 0.12, 0.1), shoulder=0.11, neck=(0.06, 0.06)),
    "satyr": Upright(hock=0.3, hip=(0.1, 0.86), thigh=0.4, shin=0.4, horns=0.16, muzzle=0.1, fingers=4, arm=(0.3, 0.27, 0.19), neck=(0.1, 0.06), droop=20),
    "camel": OnFour(neck=(0.6, 48.0, 0.11, 0.07), high=(0.8, 0.82), leg=(0.1, 0.05, 0.045), foot=(0.3, 0.1), head=(0.3, 0.085, 0.055), tail=(0.4, -60.0, 0.03), ears=0.07, girth=(0.17, 0.2, 0.19)),
    "stoat": OnFour(high=(0.17, 0.16), apart=0.05, leg=(0.05, 0.036, 0.032), long=0.6, bent=0.25, girth=(0.085, 0.08, 0.08), neck=(0.2, 40.0, 0.06, 0.05), head=(0.16, 0.062, 0.04), tail=(0.32, 15.0, 0.03), ears=0.035),
    "saiga": OnFour(trunk=0.16, horns=0.2, high=(0.62, 0.6), leg=(0.09, 0.038, 0.032), foot=(0.4, 0.12), neck=(0.24, 50.0, 0.09, 0.07), head=(0.24, 0.085, 0.06), nod=25, ears=0.09, ears_out=0.8, tail=(0.12, -55.0, 0.03)),
    "mara": OnFour(ears=0.22, ears_out=0.25, high=(0.42, 0.4), leg=(0.08, 0.036, 0.03), foot=(0.34, 0.11), bent=0.35, long=0.5, neck=(0.2, 50.0, 0.075, 0.058), head=(0.2, 0.075, 0.05), tail=(0.08, 10.0, 0.035)),
    "elephant": OnFour(trunk=0.6, girth=(0.27, 0.3, 0.28), high=(0.75, 0.76), apart=0.17, leg=(0.13, 0.1, 0.1), foot=(0.2, 0.07), bent=0.1, neck=(0.14, 25.0, 0.18, 0.15), head=(0.3, 0.17, 0.09), nod=40, ears=0.4, ears_out=0.95, tail=(0.5, -70.0, 0.03)),
    "harvester": OnMany(pairs=3, feelers=0.45, abdomen=0.28),
    "whale": Swimming(girth=0.24, long=1.8, flukes=0.35, fins=0.4, snout=0.2),
    "adder": Line(long=2.2, girth=0.05, sway=0.35),
}  # fmt: skip
NAMED = TRIED | JUDGED


def by_chance(seed: int) -> Build:
    """A body of no build in particular, for calibrating: on two legs or four, each of its measures from one of two builds of TRIED (or a
    plain upright one), then changed by a quarter at most."""
    rng = np.random.default_rng([seed, 4242])
    kind: type[Upright | OnFour] = Upright if rng.random() < 0.45 else OnFour
    pool = [b for b in (*TRIED.values(), Upright()) if isinstance(b, kind)]
    a, b = pool[rng.integers(len(pool))], pool[rng.integers(len(pool))]
    made: Build = kind(**{f.name: getattr(a if rng.random() < 0.6 else b, f.name) for f in fields(a)})
    if (
        isinstance(made, Upright)
        and isinstance(a, Upright)
        and isinstance(b, Upright)
        and made.lean < 30
        and a.lean != b.lean
    ):
        made = replace(made, lean=float(rng.choice([a.lean, b.lean])))
    return varied(made, rng, 0.25)


def of_chance(plan: str, seed: int) -> Build:
    """The same for a plan: with wings, many legs, fins or none of these, each measure drawn between two bounds; `by_chance` for others."""
    rng = np.random.default_rng([seed, 4243])
    u = lambda low, high: float(rng.uniform(low, high))  # noqa: E731
    if plan == "many-legged":
        return OnMany(
            pairs=int(rng.choice([2, 3, 3, 4, 4, 5])), long=u(0.4, 0.75), girth=u(0.08, 0.17),
            leg=(u(0.2, 0.42), u(0.22, 0.4), u(0.02, 0.042)), feelers=u(0.2, 0.5) * (rng.random() < 0.65), abdomen=u(0.15, 0.5),
        )  # fmt: skip
    if plan == "finned":
        return Swimming(
            long=u(1.1, 1.9),
            girth=u(0.11, 0.26),
            fins=u(0.2, 0.5),
            flukes=u(0.18, 0.4) * (rng.random() < 0.6),
            snout=u(0.08, 0.25),
        )
    if plan == "chain":
        return Line(long=u(1.0, 2.4), girth=u(0.035, 0.1), sway=u(0.0, 0.4))
    if plan == "winged":
        bony = rng.random() < 0.7
        return Flying(
            trunk=u(0.3, 0.5), girth=u(0.08, 0.13), lean=u(0, 35), legs=(u(0.14, 0.34), u(0.022, 0.036)),
            neck=(u(0.05, 0.25), u(0.04, 0.06)), head=(u(0.13, 0.2), u(0.06, 0.085), u(0, 0.1)), ears=u(0.08, 0.22) * (rng.random() < 0.4),
            tail=u(0.15, 0.5) * (rng.random() < 0.5), arm=(u(0.14, 0.26), u(0.16, 0.3), u(0.022, 0.036)), fold=u(10, 65),
            drop=u(-15, 25), fingers=int(rng.choice([2, 3, 3, 4])) if bony else 0, reach=u(0.35, 0.65), chord=u(0.22, 0.42),
        )  # fmt: skip
    return by_chance(seed)


def varied(build: Build, rng: np.random.Generator, by: float = 0.15) -> Build:
    """The build with every length and girth changed by chance, at most by the share `by`."""
    if not isinstance(build, Upright | OnFour):
        return build
    keep = {"fingers", "pairs", "droop", "nod", "lean", "ears_out"}
    change: dict[str, object] = {}
    for name, value in build.__dict__.items():
        if name in keep:
            continue
        scale = lambda x: float(x * (1 + rng.uniform(-by, by)))  # noqa: E731
        change[name] = tuple(scale(x) for x in value) if isinstance(value, tuple) else scale(value)
    made = replace(build, **change)  # type: ignore[arg-type]
    if isinstance(made, Upright):  # the legs reach the ground
        hock = made.hock + 0.03
        reach = made.thigh * np.sqrt(1 - hock**2) + made.shin * np.sqrt(1 - (1.25 * hock) ** 2)
        made = replace(
            made, hip=(made.hip[0], float(reach + 1.6 * made.thick[2] + 0.3 * made.foot * (made.hock > 0.2)))
        )
    return made


def grown(build: Build, name: str, cell: float | None = None) -> tuple[Character, Character]:
    """(the mesh alone, the same with the true joints)."""
    flesh = GROW[type(build)](build)
    cones = list(flesh.cones)
    for a, b, ra, rb in flesh.cones:
        if flesh.plan != "chain" and max(abs(a[0]), abs(b[0])) > 1e-9:
            cones.append((a * MIRROR, b * MIRROR, ra, rb))
    mesh = wrapped(cones, cell)
    c = character_from_mesh(mesh, name)
    joints = []
    for n, (parent, place, role, deforms) in flesh.joints.items():
        joints.append(
            Joint(
                name=n,
                parent=parent,
                side="L" if n.endswith("_L") else "C",
                place=tuple(place),
                role=role,
                deforms=deforms,
            )
        )
        if n.endswith("_L"):
            up = opposite_name(parent) if parent else None
            joints.append(
                Joint(
                    name=opposite_name(n), parent=up, side="R", place=tuple(place * MIRROR), role=role, deforms=deforms
                )
            )
    laid = c.with_(joints=tuple(joints), plan=flesh.plan)
    return c, turn_down_bones(laid, hinges={n: h for n in flesh.joints if (h := hinge_of(flesh, n)) is not None})


def hinge_of(flesh: Flesh, name: str) -> np.ndarray | None:
    """The axis about which a joint closes, where anatomy says so: knees backwards, elbows forwards, fingers to the palm
    (common practice).  None: as the bones bend."""
    role = flesh.joints[name][2]
    if role in ("thigh", "shin", "foot", "ball", "hand", "fore_ball", "hips", "spine", "chest", "neck", "head", "tail"):
        return v(1, 0, 0)
    if role in ("upper_arm", "forearm"):
        return v(-1, 0, 0) if flesh.plan == "quadruped" else np.cross(v(0, 0, -1), v(1, -0.6, 0))
    if role.startswith(("thumb", "index", "middle", "ring", "little")):
        return v(0, 0, -1)
    return None


def wrapped(cones: list[tuple[np.ndarray, np.ndarray, float, float]], cell: float | None = None) -> RawMesh:
    """Quads round the smooth union of cones: naive surface nets (Gibson 1998) on a grid, drawn onto the surface."""
    a, b = np.array([c[0] for c in cones]), np.array([c[1] for c in cones])
    r = np.array([max(c[2], c[3]) for c in cones])
    low, high = np.minimum(a, b).min(0) - r.max() * 0, np.maximum(a, b).max(0)
    low, high = (np.minimum(a, b) - r[:, None]).min(0), (np.maximum(a, b) + r[:, None]).max(0)
    size = float((high - low).max())
    h = cell or size / 125
    low = low - 3 * h
    low[0] = -(np.ceil(-low[0] / h) + 0.5) * h  # alike on both sides
    n = np.ceil((high + 3 * h - low) / h).astype(int) + 1
    d = np.full(n, 10.0)
    axes = [low[k] + h * np.arange(n[k]) for k in range(3)]
    for p, q, ra, rb in cones:  # each cone only where it can matter
        near = max(ra, rb) + 5 * h
        span = []
        for k in range(3):
            i = np.searchsorted(axes[k], [min(p[k], q[k]) - near, max(p[k], q[k]) + near])
            span.append(slice(max(i[0] - 1, 0), min(i[1] + 1, n[k])))
        grid = np.stack(np.meshgrid(*(axes[k][span[k]] for k in range(3)), indexing="ij"), -1)
        one = (
            round_cone(grid.reshape(-1, 3), p, q, ra, rb)
            if np.linalg.norm(p - q) > 1e-9
            else np.linalg.norm(grid.reshape(-1, 3) - p, axis=1) - ra
        )
        old = d[tuple(span)]
        k = 1.2 * h
        one = one.reshape(old.shape)
        d[tuple(span)] = np.minimum(old, one) - k * np.log1p(np.exp(-np.abs(old - one) / k))
    corners = np.stack(
        [d[i : n[0] - 1 + i, j : n[1] - 1 + j, k : n[2] - 1 + k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], -1
    )
    crossed = (corners.min(-1) < 0) & (corners.max(-1) >= 0)
    number = np.full(crossed.shape, -1)
    number[crossed] = np.arange(int(crossed.sum()))
    cells = np.argwhere(crossed)
    points = _on_edges(d, cells, low, h)
    faces = []
    for axis in range(3):
        u, w = (axis + 1) % 3, (axis + 2) % 3
        here = np.take(d, range(n[axis] - 1), axis) < 0
        there = np.take(d, range(1, n[axis]), axis) < 0
        at = np.argwhere(here != there)
        at = at[(at[:, u] > 0) & (at[:, w] > 0) & (at[:, u] < n[u] - 1) & (at[:, w] < n[w] - 1)]
        ring = []
        for du, dw in ((-1, -1), (0, -1), (0, 0), (-1, 0)):
            c = at.copy()
            c[:, u] += du
            c[:, w] += dw
            ring.append(number[tuple(c.T)])
        quads = np.stack(ring, 1)
        out = here[tuple(at.T)]
        quads[~out] = quads[~out][:, ::-1]
        faces.append(quads)
    q = np.vstack(faces)
    return RawMesh(points, np.arange(0, 4 * len(q) + 1, 4), q.ravel(), np.zeros(len(q), np.int64), ["body"])


EDGES = [(a, b) for a in range(8) for b in range(a + 1, 8) if bin(a ^ b).count("1") == 1]


def _on_edges(d: np.ndarray, cells: np.ndarray, low: np.ndarray, h: float) -> np.ndarray:
    """The mean of the places where the surface crosses each cell's edges."""
    total, count = np.zeros((len(cells), 3)), np.zeros(len(cells))
    offset = np.array([[(c >> 2) & 1, (c >> 1) & 1, c & 1] for c in range(8)])
    value = np.stack([d[tuple((cells + o).T)] for o in offset], 1)
    for a, b in EDGES:
        cut = (value[:, a] < 0) != (value[:, b] < 0)
        t = value[cut, a] / (value[cut, a] - value[cut, b])
        total[cut] += offset[a] + t[:, None] * (offset[b] - offset[a])
        count[cut] += 1
    return np.asarray(low + (cells + total / count[:, None]) * h)
