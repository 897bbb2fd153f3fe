"""How well a skin is bound, body by body: `python -m tests.judging.skins [--only NAME …] [--skins FOLDER]`.

Every body of the kit at rest with its true joints is bound and bent into the ordinary poses by linear blending, which is
what goes out.  Figures that want other joints' or other people's weights to compare with (the dog and the rat of
dm_control, bound by hand) are asked for with --skins.
"""

from __future__ import annotations

import argparse
import json
import struct
import time
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from tests.judging.builds import JUDGED, TRIED
from tests.judging.posing import CAST, HERE, at_rest, ordinary_turns
from vonkel.core.character import Character, Joint, Skin, opposite_name
from vonkel.core.character.hierarchy import descendants
from vonkel.core.character.words import DIGITS
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.topology import skin_triangles, topology_of_triangles, welded_points
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.plans import lay_plan
from vonkel.core.poses import pose_from_turns
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import bind_skin
from vonkel.core.skin.grown import grown_together
from vonkel.core.trials.measure import Measurer
from vonkel.core.weights import table_of

TORN = 2.0  # an edge this many times as long as at rest is torn


@dataclass
class SkinFigures:
    """What is measured of a bound body; shares are of 1."""

    name: str
    points: int
    seconds: float  # of one core
    jump: float  # the largest change of a joint's weight across an edge
    jump_usual: float  # what 999 of a thousand edges keep below
    islands: int  # patches that a joint holds most strongly, not joined to its own within a piece
    other_leg: float
    other_finger: float
    torn: dict[str, float] = field(default_factory=dict)  # pose → share of edges torn
    torn_apart: dict[str, float] = field(default_factory=dict)  # the same away from where limbs have grown together
    seams: int = 0  # places where they have
    folds: int = 0  # in all ordinary poses

    def line(self) -> str:
        worst = max(self.torn, key=lambda k: self.torn[k], default="")
        return (
            f"{self.name:12s} {self.points:6d} {self.seconds:5.2f} s  jump {self.jump:.2f} / {self.jump_usual:.2f}  islands {self.islands}"
            f"  other leg {self.other_leg:.3f}  finger {self.other_finger:.3f}  torn {100 * self.torn.get(worst, 0.0):.3f} % ({worst})"
            f", {100 * max(self.torn_apart.values(), default=0.0):.3f} % away from {self.seams} seams  folds {self.folds}"
        )


def dense(c: Character) -> np.ndarray:
    """(n, j): what each joint of the skin holds."""
    return table_of(c).dense()


def islands(owner: np.ndarray, edges: np.ndarray, pieces: np.ndarray) -> int:
    """Patches of points with one owner that aren't their owner's largest one within their piece of the mesh."""
    n = len(owner)
    same = edges[owner[edges[:, 0]] == owner[edges[:, 1]]]
    graph = csr_matrix((np.ones(len(same), np.int8), (same[:, 0], same[:, 1])), (n, n))
    patch = connected_components(graph, directed=False)[1]
    first = np.unique(patch, return_index=True)[1]
    pairs = {(int(owner[i]), int(pieces[i])) for i in first}
    return len(first) - len(pairs)


def judged(c: Character, seconds: float, body: str = "") -> SkinFigures:
    """Figures of a bound character."""
    assert c.skin
    measurer = Measurer(c)
    edges, weights = measurer.edges, dense(c)
    jumps = np.abs(weights[edges[:, 0]] - weights[edges[:, 1]]).max(1) if len(edges) else np.zeros(1)
    first, of = welded_points(c.points, 1e-5 * c.size)  # a texture's seam doesn't part a body
    inner, pieces = of[edges], topology_of_triangles(of[skin_triangles(c)], len(first)).islands
    owner = weights.argmax(1)
    out = SkinFigures(
        body or c.name, len(np.unique(edges)), seconds, float(jumps.max()), float(np.quantile(jumps, 0.999)), islands(owner[first], inner, pieces),
        other_leg(c, weights), other_finger(c, weights, owner),
    )  # fmt: skip
    out.torn, out.torn_apart, out.folds = torn(c, measurer)
    out.seams = len(grown_together(c))
    return out


def _digit_of(j: Joint) -> str:
    stem = next((d for d in DIGITS if j.role.startswith(d)), "")
    return f"{stem}{j.side}" if stem else ""


def other_finger(c: Character, weights: np.ndarray, owner: np.ndarray) -> float:
    """The most weight that other digits have where the last joint of one holds a point most strongly."""
    assert c.skin
    digits = [_digit_of(c.joint(n)) for n in c.skin.joints]
    worst = 0.0
    for k, digit in enumerate(digits):
        if not digit or any(j.deforms for j in c.children.get(c.skin.joints[k], ())):
            continue
        others = [i for i, x in enumerate(digits) if x and x != digit]
        mine = owner == k
        if others and mine.any():
            worst = max(worst, float(weights[mine][:, others].sum(1).max()))
    return worst


BESIDE = 0.06  # of the size: skin no farther than this from where limbs have grown together is what is stretched between them
CLEAR = 0.04  # a point that is so much nearer to one hip than to the other, share of the size, is one leg's


def other_leg(c: Character, weights: np.ndarray) -> float:
    """The most weight that a leg has on the other side's skin, clear of the crotch."""
    assert c.skin
    worst = 0.0
    for j in c.joints:
        if j.role != "thigh" or opposite_name(j.name) not in c.joint_index:
            continue
        own, other = np.array(j.place), np.array(c.joint(opposite_name(j.name)).place)
        far = np.linalg.norm(c.points - own, axis=1) - np.linalg.norm(c.points - other, axis=1) > CLEAR * c.size
        leg = [c.skin.joints.index(n) for n in (j.name, *descendants(c, j.name)) if n in c.skin.joints]
        worst = max(worst, float(weights[far][:, leg].sum(1).max()))
    return worst


def torn(c: Character, measurer: Measurer) -> tuple[dict[str, float], dict[str, float], int]:
    """Share of edges that a pose makes more than TORN times as long, by pose; of those that aren't where limbs have grown
    together; folded edges in all."""
    deformer, edges, rest = Deformer(c), measurer.edges, measurer.rest_length
    out, apart, folds = {}, {}, 0
    seams = [s.points for s in grown_together(c)]
    free = np.ones(len(c.points), bool)
    if seams:
        free = cKDTree(c.points[np.concatenate(seams)]).query(c.points)[0] > BESIDE * c.size
    long = rest > 0
    for pose, turns in ordinary_turns(c).items():
        made = pose_from_turns(c, turns)
        points = deformer.deform(made, "linear").astype(float)
        now = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
        wide = now[long] > TORN * rest[long]
        out[pose], apart[pose] = float(wide.mean()), float((wide & free[edges[long]].any(1)).mean())
        folds += measurer.measure(points).folded
    return out, apart, folds


def bound(c: Character, **options) -> tuple[Character, float]:  # type: ignore[no-untyped-def]
    """The character bound, and the seconds of processors that it took."""
    start = time.process_time()
    made = bind_skin(c, **options)
    return made, time.process_time() - start


# --- skins made by hand ------------------------------------------------------------------------------------------------
@dataclass
class HandMade:
    """A character with an artist's joints and skin."""

    character: Character
    skin: np.ndarray  # (n, j) weights by the artist, columns in the order of the character's joints


HANDS = json.loads((HERE / "hand_made.json").read_text())


def read_skn(path: Path) -> tuple[RawMesh, dict[str, np.ndarray], np.ndarray]:
    """A .skn file as MuJoCo's documentation describes it: the mesh, the bones' places by name, weights (n, bones)."""
    data = path.read_bytes()
    n, faces, bones = (struct.unpack_from("<4i", data, 0)[k] for k in (0, 2, 3))
    places = struct.unpack_from("<4i", data, 0)[1]
    at = 16
    p = np.frombuffer(data, "<f4", 3 * n, at).reshape(-1, 3).astype(float)
    at += 12 * n + 8 * places
    f = np.frombuffer(data, "<i4", 3 * faces, at).astype(np.int64)
    at += 12 * faces
    where, held = {}, np.zeros((n, bones))
    for b in range(bones):
        name = data[at : at + 40].split(b"\0")[0].decode()
        where[name] = np.frombuffer(data, "<f4", 3, at + 40).astype(float)
        count = struct.unpack_from("<i", data, at + 68)[0]
        at += 72
        held[np.frombuffer(data, "<i4", count, at), b] = np.frombuffer(data, "<f4", count, at + 4 * count)
        at += 8 * count
    return RawMesh(p, np.arange(0, len(f) + 1, 3), f, np.zeros(faces, np.int64), ["body"]), where, held


def hand_made(path: Path) -> HandMade:
    """A .skn file stood up, facing +Z, with the tree of hand_made.json."""
    told = HANDS[path.stem]
    mesh, where, held = read_skn(path)
    turn, n = np.array(told["turn"], float), len(mesh.points)
    c = character_from_mesh(replace(mesh, points=mesh.points @ turn.T), path.stem)
    names, spots = list(where), {k: turn @ v for k, v in where.items()}
    joints, seen = [], set()
    while len(joints) < len(told["joints"]):
        before = len(joints)
        for name, (parent, role) in told["joints"].items():
            if name not in seen and (parent is None or parent in seen):
                seen.add(name)
                side = name[-1] if name.endswith(("_L", "_R")) else "C"
                joints.append(Joint(name=name, parent=parent, place=tuple(spots[name]), role=role, side=side))
        if len(joints) == before:
            raise ValueError(f"the tree of {path.stem} doesn't hang together")
    c = turn_down_bones(c.with_(joints=tuple(joints), plan="quadruped"))
    skin = np.zeros((n, len(joints)))
    for k, j in enumerate(joints):
        skin[:, k] = held[:, names.index(j.name)]
    return HandMade(c, skin / np.maximum(skin.sum(1, keepdims=True), 1e-9))


def with_artists_skin(h: HandMade) -> Character:
    order = np.argsort(-h.skin, axis=1, kind="stable")[:, :8]
    w = np.take_along_axis(h.skin, order, 1)
    w = (w / w.sum(1, keepdims=True)).astype(np.float32)
    skin = Skin(joints=tuple(j.name for j in h.character.joints), method="linear", influences=8)
    return h.character.with_(skin=skin, arrays={"skin/joints": order.astype(np.uint16), "skin/weights": w})


REGIONS: dict[str, list[str]] = json.loads((HERE / "regions.json").read_text())


def region_of(j: Joint) -> str:
    """The part of the body that a joint belongs to by its role (regions.json), with its side where there are two."""
    stems = {stem: region for region, some in REGIONS.items() for stem in some}
    stem = max((s for s in stems if (j.role or j.name).startswith(s)), key=len, default="")
    region = "arm" if stems.get(stem) == "digits" else stems.get(stem, "trunk")
    return f"{region} {j.side}" if region in ("arm", "leg") else region


def agreement(h: HandMade, made: Character) -> tuple[float, dict[str, float]]:
    """On how many points the strongest part is the artist's, in all and of each part's own."""
    assert made.skin
    known = sorted({region_of(j) for j in (*h.character.joints, *made.joints)})

    def strongest(weights: np.ndarray, joints: list[Joint]) -> np.ndarray:
        of = np.array([known.index(region_of(j)) for j in joints])
        return np.stack([weights[:, of == k].sum(1) for k in range(len(known))], 1).argmax(1)

    theirs = strongest(h.skin, list(h.character.joints))
    ours = strongest(dense(made), [made.joint(n) for n in made.skin.joints])
    each = {known[k]: float((ours[theirs == k] == k).mean()) for k in range(len(known)) if (theirs == k).any()}
    return float((ours == theirs).mean()), each


def main() -> None:
    asked = argparse.ArgumentParser()
    asked.add_argument("--only", nargs="*")
    asked.add_argument("--skins", type=Path)
    given = asked.parse_args()
    for name in given.only or [*(n for n in CAST), *TRIED, *JUDGED]:
        bound(at_rest(name)[1])  # loops are compiled, topology known
        made, seconds = bound(at_rest(name)[1])
        print(judged(made, seconds, name).line(), flush=True)
    for path in sorted(given.skins.rglob("*.skn")) if given.skins else ():
        if path.stem not in HANDS:
            continue
        try:
            h = hand_made(path)
        except KeyError as error:
            print(f"{path.name} in {path.parent.name} has other joints: no {error}.")
            continue
        theirs = with_artists_skin(h)
        print(judged(theirs, 0.0, path.stem + " artist's").line())
        bound(h.character)
        made, seconds = bound(h.character)
        print(judged(made, seconds, path.stem).line())
        share, each = agreement(h, made)
        print(f"   parts on the artist's joints: {100 * share:.1f} %", {k: round(100 * v, 1) for k, v in each.items()})
        laid = lay_plan(h.character.with_(joints=(), plan=""), "quadruped", {})
        made, seconds = bound(laid)
        print(judged(made, seconds, path.stem + " laid").line())
        share, each = agreement(h, made)
        print(f"   parts on ours: {100 * share:.1f} %", {k: round(100 * v, 1) for k, v in each.items()}, flush=True)


if __name__ == "__main__":
    main()
