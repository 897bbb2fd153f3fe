"""Where limbs have grown together: skin that joins bones which are far from each other along the bones.

A forearm that lies against the trunk in a sculpt, or two shins in one column, are one surface there.  No weights let them
part without drawing along, or tearing, what is between them, so whoever binds such a mesh should know before it shows in a pose.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, csgraph_from_dense, shortest_path

from ..character import Character
from ..derived import derived
from ..geometry.topology import topology_of
from .bones import Bone, bones_of

# The way along the bones from one side of an edge to the other, over the flesh between them and those bones: in an armpit or a
# crotch about one.  Set on the cast and on two animals bound by hand, where it tells nothing, and on TRIED builds whose limbs touch.
APART = 1.8
LEAST = 0.5  # of the shorter bone: seams that reach less far are creases
ACROSS = 0.15  # the same between both sides' shins, feet or hands, which have no crease between them
TRUNK = ("hips", "spine", "chest")
FLAT = ("wing", "membrane", "fin", "feather")  # what a sheet joins by nature, as it does what it hangs on


@dataclass(frozen=True, eq=False)
class Seam:
    """Two joints whose flesh has grown together; the points (k,) on either side of where; how far that reaches, metres."""

    joints: tuple[str, str]
    points: np.ndarray
    long: float


@derived("points", "face_starts", "face_corners", "parts", "joints", "skin", "skin/joints", most=8)
def grown_together(character: Character) -> tuple[Seam, ...]:
    """Where the strongest holds of neighbouring points are of bones that lie far apart along the bones; the longest first."""
    skin = character.skin
    if skin is None:
        return ()
    bones = [b for b in bones_of(character) if b.joint in skin.joints]
    if len(bones) < 3:
        return ()
    number = np.full(len(skin.joints), -1)
    for k, b in enumerate(bones):
        both = (character.joint(b.joint), *character.children.get(b.joint, ()))
        if not any(j.role.startswith(FLAT) for j in both):
            number[skin.joints.index(b.joint)] = k
    own = number[character.arrays["skin/joints"][:, 0]]
    edges = topology_of(character).edges
    i, j = edges[(own[edges] >= 0).all(1) & (own[edges[:, 0]] != own[edges[:, 1]])].T
    strange = ~_akin(character, [b.joint for b in bones])[own[i], own[j]]
    i, j = i[strange], j[strange]
    if not len(i):
        return ()
    rig = _Rig(character, bones)
    p = character.points
    far_i, at_i, gone_i = rig.reached(p[i], own[i])
    far_j, at_j, gone_j = rig.reached(p[j], own[j])
    ways = [gone_i[:, a] + rig.apart[at_i[:, a], at_j[:, b]] + gone_j[:, b] for a in (0, 1) for b in (0, 1)]
    flesh = far_i + far_j + np.linalg.norm(p[i] - p[j], axis=1)
    grown = np.min(ways, axis=0) > APART * np.maximum(flesh, 1e-12)
    return _seams(character, bones, own, np.stack([i[grown], j[grown]], 1))


def _akin(character: Character, names: list[str]) -> np.ndarray:
    """(b, b) bool: joints whose flesh is one by nature: those that hang from one another by one step or two, or from the same one,
    the trunk's with the one that a limb begins with, the neck's and head's with the second as well (a neck lies on its shoulders)."""
    above, deep, middle = [], [], []
    for n in names:
        joint = character.joint(n)
        parent = joint.parent
        above.append((n, parent, character.joint(parent).parent if parent else None))
        middle.append(joint.side == "C")
        up, steps = parent, 0
        while up is not None and character.joint(up).side == joint.side:
            up, steps = character.joint(up).parent, steps + 1
        deep.append(steps)
    out = np.zeros((len(names), len(names)), bool)
    for a, (n, parent, beyond) in enumerate(above):
        for b, (m, other, _) in enumerate(above):
            out[a, b] |= m in (n, parent, beyond)
            if middle[a]:
                first = 1 if character.joint(n).role.startswith(TRUNK) else 2
                out[a, b] |= middle[b] or deep[b] < first or (parent is not None and parent == other)
    return np.asarray(out | out.T)


def _across(character: Character, one: str, other: str) -> bool:
    """Whether two joints are of both sides, and neither of those whose flesh meets on the trunk: what a limb begins with, collars aside."""
    sides = {character.joint(n).side for n in (one, other)}
    above = [character.joint(p) if (p := character.joint(n).parent) else None for n in (one, other)]
    return sides == {"L", "R"} and all(j is not None and j.side != "C" and j.role != "collar" for j in above)


class _Rig:
    """The bones as a net of places: apart (m, m) metres along them between its nodes."""

    def __init__(self, character: Character, bones: list[Bone]) -> None:
        self.bones = bones
        # what doesn't deform joins bones, too
        above = [(j.place, character.joint(j.parent).place) for j in character.joints if j.parent]
        ways = np.concatenate([*(b.segments for b in bones), np.array(above).reshape(-1, 2, 3)])
        places = np.round(ways.reshape(-1, 3) / max(character.size, 1e-12), 7)
        ends = np.unique(places, axis=0, return_inverse=True)[1].reshape(-1, 2)
        self.ends = np.split(ends, np.cumsum([len(b.segments) for b in bones]))
        net = np.full((int(ends.max()) + 1,) * 2, np.inf)
        np.minimum.at(net, tuple(ends.T), np.linalg.norm(ways[:, 1] - ways[:, 0], axis=1))
        self.apart = shortest_path(csgraph_from_dense(net, null_value=np.inf), directed=False)

    def reached(self, places: np.ndarray, of: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """How far places (n, 3) are from their bones `of` (n,): metres (n,), the nodes at both ends of the segment that is
        nearest (n, 2), and metres along it to each (n, 2)."""
        far, at, gone = np.full(len(places), np.inf), np.zeros((len(places), 2), int), np.zeros((len(places), 2))
        for k in np.unique(of):
            mine = np.flatnonzero(of == k)
            for (start, end), nodes in zip(self.bones[k].segments, self.ends[k], strict=True):
                way = end - start
                long = float(np.linalg.norm(way))
                t = np.clip((places[mine] - start) @ way / max(long * long, 1e-18), 0.0, 1.0)
                d = np.linalg.norm(places[mine] - start - t[:, None] * way, axis=1)
                better = d < far[mine]
                rows = mine[better]
                far[rows], at[rows] = d[better], nodes
                gone[rows] = np.stack([t[better] * long, (1 - t[better]) * long], 1)
        return far, at, gone


def _seams(character: Character, bones: list[Bone], own: np.ndarray, edges: np.ndarray) -> tuple[Seam, ...]:
    """Edges (e, 2) across seams, by the seam they are of: those that share a point or lie next to one another."""
    if not len(edges):
        return ()
    used = np.unique(edges)
    number = np.full(len(own), -1)
    number[used] = np.arange(len(used))
    every = topology_of(character).edges
    near = number[every[(number[every] >= 0).all(1)]]
    piece = connected_components(coo_matrix((np.ones(len(near)), near.T), (len(used),) * 2), directed=False)[1]
    out = []
    for k in range(int(piece.max()) + 1):
        points = used[piece == k]
        long = float(np.linalg.norm(np.ptp(character.points[points], axis=0)))
        mine = edges[piece[number[edges[:, 0]]] == k]
        a, b = Counter(tuple(sorted(int(b) for b in own[e])) for e in mine).most_common(1)[0][0]
        least = ACROSS if _across(character, bones[a].joint, bones[b].joint) else LEAST
        if long > least * min(bones[a].longest, bones[b].longest):
            out.append(Seam((bones[a].joint, bones[b].joint), points, long))
    return tuple(sorted(out, key=lambda s: -s.long))
