"""Whether mesh and rest pose are ready to bend: edge loops round joints, and room between limbs and body."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from ..character import Character, Joint, opposite_name
from ..character.hierarchy import descendants
from ..compiled import compiled
from ..derived import derived
from ..geometry.rotations import unit
from ..geometry.topology import skin_points, topology_of
from .inside import body_solid
from .orient import MIRROR, bone_child

LEAST_LOOPS = 3  # round a joint that bends (common practice)


@compiled
def nearest_bone(
    points: np.ndarray, starts: np.ndarray, ends: np.ndarray, thick: np.ndarray, owner: np.ndarray
) -> None:
    """Fill owner (n,) with the bone, of (b, 3) starts and ends, nearest to each point in units of its flesh (b,)."""
    for i in range(len(points)):
        best = np.inf
        for k in range(len(starts)):
            wx, wy, wz = ends[k, 0] - starts[k, 0], ends[k, 1] - starts[k, 1], ends[k, 2] - starts[k, 2]
            px, py, pz = points[i, 0] - starts[k, 0], points[i, 1] - starts[k, 1], points[i, 2] - starts[k, 2]
            long = wx * wx + wy * wy + wz * wz
            t = 0.0 if long < 1e-18 else min(max((px * wx + py * wy + pz * wz) / long, 0.0), 1.0)
            dx, dy, dz = px - t * wx, py - t * wy, pz - t * wz
            d = (dx * dx + dy * dy + dz * dz) / (thick[k] * thick[k])
            if d < best:
                best = d
                owner[i] = k


def flesh_at(character: Character, place: np.ndarray) -> float:
    """Metres from a place inside the body to its surface; at least a cell."""
    solid = body_solid(character)
    if not len(solid.cells):
        return 0.02 * character.size
    return max(float(solid.depth[solid.nearest(place[None])[0]]), solid.h)


def bending_joints(character: Character) -> list[tuple[Joint, Joint, Joint]]:
    """Joints with a bone before and behind them that are thin beside their bones: (above, joint, child)."""
    out = []
    for j in character.joints:
        if not j.deforms or j.parent is None:
            continue
        above, child = character.joint(j.parent), bone_child(character, j)
        if child is None or bone_child(character, above) is not j or not above.deforms:
            continue
        a, b, c = (np.array(x.place) for x in (above, j, child))
        if flesh_at(character, b) < 0.75 * min(np.linalg.norm(b - a), np.linalg.norm(c - b)):
            out.append((above, j, child))
    return out


@derived("points", "face_starts", "face_corners", "parts", "joints", most=8)
def loops_round(character: Character) -> dict[str, float]:
    """Joint → how many edge loops of the skin run round it within one limb's thickness to either side.

    Lines are drawn along the limb on eight sides of it; each edge that such a line crosses belongs to a loop that
    runs round.  The median of the eight counts.  Edges of triangles count half, since every other one is a diagonal.
    """
    topo = topology_of(character)
    edges = topo.edges
    skin = skin_points(character)
    quads = (topo.sizes[topo.corner_face] >= 4).astype(float)
    in_quad = np.zeros(len(edges))
    np.maximum.at(in_quad, topo.corner_edge, quads)
    weight = np.where(in_quad > 0, 1.0, 0.5) * skin[edges[:, 0]]
    tree = _edge_tree(character)
    out: dict[str, float] = {}
    for above, joint, child in bending_joints(character):
        partner = opposite_name(joint.name)
        if (
            joint.side == "R"
            and partner in out
            and np.allclose(np.array(character.joint(partner).place) * MIRROR, joint.place)
        ):
            out[joint.name] = out[partner]
            continue
        place = np.array(joint.place)
        thick = flesh_at(character, place)
        along = unit(unit(np.array(child.place) - place) + unit(place - np.array(above.place)))
        near = np.array(tree.query_ball_point(place, 3.2 * thick), np.int64)
        if not len(near):
            out[joint.name] = 0.0
            continue
        side = np.eye(3)[np.abs(along).argmin()]
        u = unit(side - along * (along @ side))
        v = np.cross(along, u)
        p, q = character.points[edges[near, 0]] - place, character.points[edges[near, 1]] - place
        counts = []
        for angle in np.arange(4) * np.pi / 4:
            across = np.cos(angle) * u + np.sin(angle) * v
            other = -np.sin(angle) * u + np.cos(angle) * v
            dp, dq = p @ across, q @ across
            crossed = (dp > 0) != (dq > 0)
            t = np.where(crossed, dp / np.where(crossed, dp - dq, 1.0), 0.0)[:, None]
            hit = p + t * (q - p)
            inside = crossed & (np.abs(hit @ along) <= thick) & (np.abs(hit @ other) < 2.6 * thick)
            counts += [
                float(weight[near][inside & (hit @ other > 0)].sum()),
                float(weight[near][inside & (hit @ other < 0)].sum()),
            ]
        out[joint.name] = float(np.median(counts))
    return out


@derived("points", "face_starts", "face_corners", most=4)
def _edge_tree(character: Character) -> cKDTree:
    """The middles of all edges as a tree, kept for the last few meshes."""
    edges = topology_of(character).edges
    return cKDTree(0.5 * (character.points[edges[:, 0]] + character.points[edges[:, 1]]))


ENOUGH = 6000  # points by which gaps are judged; a finer mesh is looked at every so many points


def limb_gaps(character: Character) -> dict[str, tuple[float, int]]:
    """For each limb (its first joint; of two partners the left one), the least gap in metres from its outer half to the rest of the body, and where
    (a point).

    Each skin point belongs to the bone that is nearest beside the flesh round it.  The outer half of a limb is what
    lies past its second joint; the rest is what belongs to no joint of the same limb.
    """
    # Of the joints only where they stand and what they are counts; limits and rotation orders don't.
    plain = tuple(
        Joint(name=j.name, parent=j.parent, side=j.side, place=j.place, role=j.role, deforms=j.deforms)
        for j in character.joints
    )
    return _limb_gaps(character.with_(joints=plain))


@derived("points", "face_starts", "face_corners", "parts", "joints", most=24)
def _limb_gaps(character: Character) -> dict[str, tuple[float, int]]:
    bones: list[tuple[str, np.ndarray, np.ndarray, float]] = []
    for j in character.joints:
        child = bone_child(character, j)
        if j.deforms and child is not None:
            a, b = np.array(j.place), np.array(child.place)
            bones.append((j.name, a, b, flesh_at(character, 0.5 * (a + b))))
    limbs = _limbs(character)
    if len(bones) < 3 or not limbs:
        return {}
    skin = np.flatnonzero(skin_points(character))
    skin = skin[:: max(1, len(skin) // ENOUGH)]
    points = character.points[skin]
    owner = np.empty(len(points), np.int64)
    ends = np.array([(a, b) for _, a, b, _ in bones])
    nearest_bone(
        np.ascontiguousarray(points), ends[:, 0].copy(), ends[:, 1].copy(), np.array([t for *_, t in bones]), owner
    )
    out: dict[str, tuple[float, int]] = {}
    names = [b[0] for b in bones]
    for first, inner, outer in limbs:
        if first.endswith("_R") and opposite_name(first) in out:
            continue  # judged by its partner
        mine = np.isin(owner, [i for i, n in enumerate(names) if n in outer])
        rest = ~np.isin(owner, [i for i, n in enumerate(names) if n in outer or n in inner])
        if mine.any() and rest.any():
            d, _ = cKDTree(points[rest]).query(points[mine])
            at = int(d.argmin())
            out[first] = (float(d[at]), int(skin[np.flatnonzero(mine)[at]]))
    return out


def _limbs(character: Character) -> list[tuple[str, set[str], set[str]]]:
    """Chains of one side with at least three joints: first joint, joints of the inner half and what they hang from,
    joints of the outer half with all below."""
    out = []
    for j in character.joints:
        if j.side == "C" or not j.deforms or j.role == "collar":
            continue
        above = character.joint(j.parent) if j.parent else None
        if above is not None and above.side == j.side and above.role != "collar":
            continue
        second = bone_child(character, j)
        if second is None or bone_child(character, second) is None:
            continue
        outer = {second.name, *descendants(character, second.name)}
        inner = {j.name} | ({j.parent} if j.parent else set())
        grand = character.joint(j.parent).parent if j.parent else None
        inner |= {grand} if grand else set()
        if len(outer) >= 2:
            out.append((j.name, inner, outer))
    return out
