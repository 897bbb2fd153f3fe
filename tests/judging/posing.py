"""Posed bodies with known joints: every joint of a rest body turned, its skin baked, then turned, leant, sized, roughened.

The joints' places go through the same maps as the flesh, so they are the truth.  Poses in which limbs run into one
another are drawn again.  The rest joints of the demo cast are frozen in `truth/` (where from: see README.md).
"""

from __future__ import annotations

import json
import pickle
import tempfile
from dataclasses import dataclass
from functools import cache
from hashlib import sha256
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from tests.judging import builds
from vonkel.core import skin
from vonkel.core.character import Character, Joint
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.rotations import matrix_from_rotation_vector, turn_between, unit
from vonkel.core.joints.inside import body_solid
from vonkel.core.joints.orient import bone_child, bone_frame
from vonkel.core.poses import WorldTurns, pose_from_turns, trial_poses
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import bind_skin
from vonkel.demo import DATA

HERE = Path(__file__).resolve().parent
CAST = {"otter": "biped", "newt": "quadruped", "beetle": "many-legged", "bat": "winged", "seal": "finned", "larva": "chain", "bust": "head"}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Posed:
    """A mesh without joints, and where its joints are: name → (3,) metres."""

    name: str
    body: str
    plan: str
    mesh: Character
    places: dict[str, np.ndarray]
    roles: dict[str, str]
    deforms: dict[str, bool]

    @property
    def size(self) -> float:
        """What errors are shares of: the height of who stands on two legs, the largest extent of others."""
        return self.mesh.height if self.plan == "biped" else self.mesh.size


def at_rest(name: str, seed: int | None = None) -> tuple[Character, Character]:
    """(mesh, the same with the true joints) of a member of the cast or of a build; `seed` varies a build's lengths."""
    if name in CAST:
        mesh = read_character(f"{name}.obj", (DATA / f"{name}.obj").read_bytes(), name)
        told = json.loads((HERE / "truth" / f"{name}.json").read_text())
        return mesh, mesh.with_(joints=tuple(Joint(**j) for j in told["joints"]), plan=told["plan"])
    build = builds.NAMED[name]
    if seed is not None:
        build = builds.varied(build, np.random.default_rng([seed, 77]))
    return builds.grown(build, name)


@cache
def rigged(name: str, seed: int | None = None) -> Character:
    """The rest body with its joints and a skin by Vonkel's own binding; kept between runs."""
    mesh, c = at_rest(name, seed)
    binder = b"".join(f.read_bytes() for f in sorted(Path(skin.__file__).parent.glob("*.py")))
    key = sha256(mesh.points.tobytes() + repr(c.joints).encode() + binder).hexdigest()[:20]
    kept = Path(tempfile.gettempdir()) / "vonkel-judging"
    kept.mkdir(exist_ok=True)
    file = kept / f"{key}.npz"
    if not file.exists():
        bound = bind_skin(c, 4, 5.0, 20, "dual")
        with file.open("wb") as f:
            np.savez_compressed(f, j=bound.arrays["skin/joints"], w=bound.arrays["skin/weights"])
        (kept / f"{key}.skin").write_bytes(pickle.dumps(bound.skin))
    told = np.load(file)
    kept_skin = pickle.loads((kept / f"{key}.skin").read_bytes())
    return c.with_(skin=kept_skin, arrays={"skin/joints": told["j"], "skin/weights": told["w"]})


# --- turns by chance ----------------------------------------------------------------------------------------------------
def rot(axis: tuple[float, float, float], degrees: float) -> np.ndarray:
    return matrix_from_rotation_vector(unit(np.array(axis, float)) * np.radians(degrees))


class Chance:
    """Turns for the joints of a body, drawn by `rng` and weakened by `strength`."""

    def __init__(self, c: Character, rng: np.random.Generator, strength: float) -> None:
        self.c, self.rng, self.k = c, rng, strength
        self.turns: WorldTurns = {}

    def u(self, low: float, high: float) -> float:
        return float(self.rng.uniform(low, high))

    def of(self, *roles: str) -> list[Joint]:
        return [j for j in self.c.joints if j.role in roles]

    def row(self, *stems: str) -> list[Joint]:
        return [j for j in self.c.joints if j.role.startswith(stems) and j.deforms]

    def hinged(self, j: Joint, degrees: float) -> None:
        self.turns[j.name] = matrix_from_rotation_vector(bone_frame(j)[:, 2] * np.radians(degrees * self.k))

    def spread(self, joints: list[Joint], *parts: tuple[tuple[float, float, float], float, float]) -> None:
        """One turn shared evenly by a row of joints."""
        drawn = [(axis, self.u(a, b) * self.k) for axis, a, b in parts]
        for j in joints:
            m = np.eye(3)
            for axis, degrees in drawn:
                m = m @ rot(axis, degrees / len(joints))
            self.turns[j.name] = m

    def draw(self) -> WorldTurns:
        x, y, z = (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)
        self.spread(self.row("spine", "chest"), (x, -12, 28), (y, -32, 32), (z, -16, 16))
        self.spread(self.row("neck", "head"), (y, -45, 45), (x, -18, 18), (z, -14, 14))
        self.spread(self.row("tail"), (y, -110, 110), (x, -40, 40))
        getattr(self, "_" + (self.c.plan or "chain").replace("-", "_"), lambda: None)()
        return self.turns

    def _legs(self) -> None:
        for j in self.of("thigh"):
            out = self.u(0, 22) * (1 if j.side == "L" else -1)
            self.turns[j.name] = (
                rot((1, 0, 0), self.u(-55, 28) * self.k)
                @ rot((0, 0, 1), out * self.k)
                @ rot((0, 1, 0), 0.6 * out * self.k)
            )
        for j in self.of("shin"):
            self.hinged(j, self.u(0, 60))
        for j in self.of("foot"):
            self.hinged(j, self.u(-15, 15))

    def _biped(self) -> None:
        for j in self.of("upper_arm"):
            lift, ahead = np.radians(self.u(-62, 70)), np.radians(self.u(-35, 65))
            way = np.array([np.cos(lift) * np.cos(ahead), np.sin(lift), np.cos(lift) * np.sin(ahead)])
            child = bone_child(self.c, j)
            bone = unit(np.array(child.place) - np.array(j.place)) if child else np.array([0, -1.0, 0])
            full = turn_between(bone, way * ([-1, 1, 1] if j.side == "R" else [1, 1, 1]))
            self.turns[j.name] = _part_of(full, self.k)
        for j in self.of("forearm"):
            self.hinged(j, self.u(0, 100))
        for j in self.of("hand"):
            self.hinged(j, self.u(-25, 25))
        for side in "LR":
            curl = self.u(0, 35)
            for j in self.row("thumb", "index", "middle", "ring", "little"):
                if j.side == side:
                    self.hinged(j, curl * self.u(0.7, 1.3))
        self._legs()

    def _winged(self) -> None:
        for j in self.of("upper_arm"):
            self.turns[j.name] = rot((0, 0, 1), self.u(-25, 35) * self.k) @ rot((0, 1, 0), self.u(-20, 20) * self.k)
        for j in self.of("forearm"):
            self.hinged(j, self.u(0, 20))
        self._legs()

    def _quadruped(self) -> None:
        for j in self.of("thigh", "upper_arm"):
            out = self.u(-4, 14) * (1 if j.side == "L" else -1)
            self.turns[j.name] = rot((1, 0, 0), self.u(-32, 32) * self.k) @ rot((0, 0, 1), out * self.k)
        for role, low, high in (("shin", -5, 40), ("forearm", -5, 45), ("foot", -15, 15), ("hand", -15, 25)):
            for j in self.of(role):
                self.hinged(j, self.u(low, high))

    def _many_legged(self) -> None:
        for j in self.of("thigh"):
            side = 1 if j.side == "L" else -1
            self.turns[j.name] = rot((0, 1, 0), self.u(-18, 18) * self.k) @ rot(
                (0, 0, 1), self.u(-12, 14) * side * self.k
            )
        for j in self.of("shin", "foot"):
            self.hinged(j, self.u(-15, 15))
        for j in self.row("feeler", "abdomen"):
            self.turns[j.name] = rot((0, 1, 0), self.u(-8, 8) * self.k) @ rot((1, 0, 0), self.u(-7, 8) * self.k)

    def _finned(self) -> None:
        for j in self.row("fin", "hind_fin"):
            s = 1 if j.side == "L" else -1
            self.turns[j.name] = rot((0, 0, 1), s * self.u(-18, 22) * self.k) @ rot(
                (0, 1, 0), s * self.u(-18, 18) * self.k
            )

    def _chain(self) -> None:
        a, p, w, v = self.u(-22, 22), self.u(0, 6.28), self.u(0.3, 0.9), self.u(-10, 10)
        for i, j in enumerate(self.row("chain")[1:]):
            self.turns[j.name] = rot((0, 1, 0), self.k * a * np.cos(p + w * i)) @ rot(
                (1, 0, 0), self.k * v * np.sin(p + w * i)
            )


def _part_of(full: np.ndarray, share: float) -> np.ndarray:
    from scipy.spatial.transform import Rotation

    return Rotation.from_rotvec(min(share, 1.0) * Rotation.from_matrix(full).as_rotvec()).as_matrix()


def _limb(j: Joint) -> str:
    r, tag = j.role, j.name[-2:] if j.name.endswith(("_L", "_R")) else ""
    if r.startswith(("upper_arm", "forearm", "hand", "thumb", "index", "middle", "ring", "little", "wing", "fore_")):
        return "arm" + tag
    if r.startswith(("thigh", "shin", "foot", "ball", "toe")):
        return "leg" + tag + "".join(ch for ch in j.name if ch.isdigit())
    if r.startswith(("tail", "feeler", "fin", "hind_fin", "abdomen")):
        return r.split("_")[0] + tag
    return r if r.startswith("chain") else "trunk"


def clash(c: Character, places: np.ndarray) -> float:
    """How far limbs run into one another beyond what they do at rest, as a share of their girths: 0 is not at all."""
    solid = body_solid(c)
    rest = np.array([j.place for j in c.joints])
    points, old, limbs, girth = [], [], [], []
    for j in c.joints:
        if (
            j.parent is None
            or j.role.startswith(("eye", "jaw", "membrane", "ear", "collar", "back_fin"))
            or j.role == "thigh"
        ):
            continue
        a, b = c.joint_index[j.parent], c.joint_index[j.name]
        for s in np.linspace(0, 1, 9)[1:]:
            q = rest[a] + s * (rest[b] - rest[a])
            points.append(places[a] + s * (places[b] - places[a]))
            old.append(q)
            limbs.append(_limb(j))
            girth.append(solid.depth[solid.tree.query(q)[1]])
    p, q, g = np.array(points), np.array(old), np.array(girth)
    worst = 0.0
    for i, k in cKDTree(p).query_pairs(2.2 * g.max()):
        need = 1.15 * (g[i] + g[k])
        if limbs[i] != limbs[k] and np.linalg.norm(q[i] - q[k]) >= 1.25 * need:
            if limbs[i].startswith("chain") and abs(i - k) < 24:
                continue
            worst = max(worst, 1 - np.linalg.norm(p[i] - p[k]) / need)
    return float(worst)


# --- the whole --------------------------------------------------------------------------------------------------------
KINDS = ("clean", "clean", "noisy", "thin", "parts", "holes")


def posed(name: str, seed: int, strength: float = 1.0, kind: str = "clean", build_seed: int | None = None) -> Posed:
    """A body in a pose drawn by `seed`, turned about the upright by any angle, leaning, unevenly sized, somewhere else."""
    c = rigged(name, build_seed)
    rng = np.random.default_rng([seed, *map(ord, name)])
    for attempt in range(40):
        pose = pose_from_turns(c, Chance(c, rng, strength * (1 - 0.015 * attempt)).draw())
        places = pose.joints[:, :, 3]
        if clash(c, places) <= 0.0:
            break
    points = Deformer(c).deform(pose).astype(float).copy()
    places = edges_kept(c, points, places)
    m = rot((0, 1, 0), float(rng.uniform(0, 360)))
    lean = rng.uniform(-4, 4, 2)
    m = np.diag(rng.uniform(0.94, 1.06, 3)) @ rot((1, 0, 0), lean[0]) @ rot((0, 0, 1), lean[1]) @ m
    points, places = points @ m.T, places @ m.T
    shift = np.array([*rng.uniform(-0.2, 0.2, 2), 0.0]) * c.size
    shift = np.array([shift[0], -points[:, 1].min(), shift[1]])
    return _made(f"{name}-{seed}", name, c, points + shift, places + shift, kind, rng)


def edges_kept(c: Character, points: np.ndarray, places: np.ndarray) -> np.ndarray:
    """The places of the joints (j, 3) in a pose, the ends of membranes on the skin's edge: nothing holds those joints to it, so
    they would hang in the air where a wing folds."""
    out, tree = places.copy(), cKDTree(c.points)
    for k, j in enumerate(c.joints):
        if j.role == "membrane_end":
            out[k] = points[int(tree.query(j.place)[1])]
    return out


def ordinary_turns(c: Character) -> dict[str, WorldTurns]:
    """The poses that are asked of any body of a character's build (core/poses.json): pose → turns."""
    return {p.name: p.turns for p in trial_poses(c) if p.ordinary}


def ordinary(name: str, pose: str, turn: float = 0.0) -> Posed:
    """A body in one of the ordinary poses, turned about the upright by `turn` degrees."""
    c = rigged(name)
    turns = ordinary_turns(c)[pose]
    made = pose_from_turns(c, turns)
    m = rot((0, 1, 0), turn)
    points = Deformer(c).deform(made).astype(float)
    points, places = points @ m.T, edges_kept(c, points, made.joints[:, :, 3]) @ m.T
    floor = np.array([0.0, -points[:, 1].min(), 0.0])
    return _made(f"{name}, {pose}", name, c, points + floor, places + floor, "clean", np.random.default_rng(0))


def moved(
    name: str, matrix: np.ndarray, kind: str = "clean", shift: tuple[float, float, float] = (0, 0, 0), seed: int = 0
) -> Posed:
    """The body at rest under a map of space."""
    c = rigged(name)
    places = np.array([j.place for j in c.joints]) @ matrix.T + shift
    return _made(f"{name}-{kind}", name, c, c.points @ matrix.T + shift, places, kind, np.random.default_rng(seed))


def _made(
    tag: str, body: str, c: Character, points: np.ndarray, places: np.ndarray, kind: str, rng: np.random.Generator
) -> Posed:
    starts, corners = c.arrays["face_starts"].astype(int), c.arrays["face_corners"].astype(int)
    keep_parts, size = True, float(np.ptp(points, axis=0).max())
    if kind == "noisy":
        points = points + rng.normal(0, 0.003 * size / np.sqrt(3), points.shape)
    elif kind == "holes":
        keep = rng.random(len(starts) - 1) > 0.03
        rows = [corners[a:b] for a, b, k in zip(starts[:-1], starts[1:], keep, strict=True) if k]
        starts, corners = np.r_[0, np.cumsum([len(r) for r in rows])], np.concatenate(rows)
        keep_parts = False
    elif kind in ("thin", "1500"):
        cell = size / 75
        points, starts, corners = thinned(points, starts, corners, cell)
        keep_parts = False
        while kind == "1500" and len(starts) > 1700:
            cell *= 1.08
            points, starts, corners = thinned(points, starts, corners, cell)
    elif kind == "parts":
        owner = c.arrays["skin/joints"][np.arange(len(points)), c.arrays["skin/weights"].argmax(1)]
        points, starts, corners = in_parts(points, starts, corners, owner, 0.0012 * size, rng)
        keep_parts = False
    if keep_parts and len(c.parts) > 1:
        mesh = c.with_(
            joints=(), kits=(), skin=None, plan="", arrays={"points": points, "skin/joints": None, "skin/weights": None}
        )
    else:
        mesh = character_from_mesh(RawMesh(points, starts, corners, np.zeros(len(starts) - 1, np.int64), ["body"]), tag)
    names = [j.name for j in c.joints]
    return Posed(
        tag, body, c.plan or "", mesh.with_(name=tag), dict(zip(names, places, strict=True)),
        {j.name: j.role for j in c.joints}, {j.name: j.deforms for j in c.joints},
    )  # fmt: skip


def thinned(
    points: np.ndarray, starts: np.ndarray, corners: np.ndarray, cell: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points in one cell of a grid become one (vertex clustering, Rossignac & Borrel 1993); triangles."""
    tri = np.array(
        [
            (corners[a], corners[i], corners[i + 1])
            for a, b in zip(starts[:-1], starts[1:], strict=True)
            for i in range(a + 1, b - 1)
        ]
    )
    key = np.floor((points - points.min(0)) / cell).astype(int)
    of = np.unique(key, axis=0, return_inverse=True)[1].ravel()
    n = int(of.max()) + 1
    mean = np.zeros((n, 3))
    np.add.at(mean, of, points)
    mean /= np.bincount(of, minlength=n)[:, None]
    tri = of[tri]
    tri = tri[(tri[:, 0] != tri[:, 1]) & (tri[:, 1] != tri[:, 2]) & (tri[:, 2] != tri[:, 0])]
    tri = tri[np.unique(np.sort(tri, 1), axis=0, return_index=True)[1]]
    return mean, np.arange(0, 3 * len(tri) + 1, 3), tri.ravel()


def in_parts(
    points: np.ndarray, starts: np.ndarray, corners: np.ndarray, owner: np.ndarray, gap: float, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Faces fall apart by the joint that holds them most; each piece is shifted by up to `gap` metres."""
    first = owner[corners[starts[:-1]]]
    new_points, new_corners, sizes, at = [], [], [], 0
    for o in np.unique(first):
        cs = [corners[starts[i] : starts[i + 1]] for i in np.flatnonzero(first == o)]
        used, inverse = np.unique(np.concatenate(cs), return_inverse=True)
        new_points.append(points[used] + rng.uniform(-gap, gap, 3))
        new_corners.append(inverse + at)
        sizes += [len(x) for x in cs]
        at += len(used)
    return np.concatenate(new_points), np.r_[0, np.cumsum(sizes)], np.concatenate(new_corners)
