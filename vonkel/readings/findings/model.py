"""Findings of the Model station: what would spoil a rig later, and whether mesh and rest pose are ready to bend."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from ...core.character import Character, opposite_name
from ...core.derived import derived
from ...core.geometry.health import Health, health
from ...core.geometry.mending import small_islands
from ...core.geometry.topology import topology_of
from ...core.joints.freedom import off_middle
from ...core.joints.orient import bone_child
from ...core.joints.survey import LEAST_LOOPS, flesh_at, limb_gaps, loops_round
from ...core.tolerances import WELD
from .kinds import Finding, Mend, counted, length, some


def model_findings(c: Character) -> Iterator[Finding]:
    if not len(c.points):
        yield Finding(station="model", level="must", title="There is no mesh")
        return
    for said in c.left_out[:1]:
        more = f"; and {len(c.left_out) - 1} more" if len(c.left_out) > 1 else ""
        yield Finding(
            station="model", level="note", title="Something in the file couldn't be used", detail=said + more,
            mend=Mend(label="Noted", step="model.accept_left_out"),
        )  # fmt: skip
    yield from _of_the_mesh(c, bool(c.joints))


@derived("points", "face_starts", "face_corners", "parts", most=8)
def _of_the_mesh(c: Character, jointed: bool) -> tuple[Finding, ...]:
    return (*_size_findings(c, jointed), *_mesh_findings(c, health(c)))


def _size_findings(c: Character, jointed: bool) -> Iterator[Finding]:
    if not 0.02 < c.size < 30:
        yield Finding(
            station="model", level="should", title=f"The model is {length(c.size)} large",
            detail="That is hardly its real size. Set the height from something you know.",
        )  # fmt: skip
    carrying = [p for p in c.parts if p.carried is not None]
    if carrying:
        m = np.array(carrying[0].carried).reshape(3, 4)
        scale = float(np.cbrt(abs(np.linalg.det(m[:, :3]))))
        yield Finding(
            station="model", level="should", title=counted(len(carrying), "part carries a leftover transform", "parts carry a leftover transform"),
            detail=f"{carrying[0].name}: scale {scale:.4g}, moved {length(float(np.linalg.norm(m[:, 3])))}. The points stand where it put them.",
            mend=Mend(label="Settle", step="model.settle"),
        )  # fmt: skip
    lying = _lying(c, jointed)
    if lying:
        yield Finding(
            station="model", level="note", title="The model may lie on its back", detail=f"It is much longer along {lying} than it is tall.",
            mend=Mend(label="Let Z be up", step="model.stand", params={"up": "z"}),
        )  # fmt: skip
    low = float(c.points[:, 1].min())
    skin = [p for p in c.parts if p.role == "skin"]
    body = np.concatenate([c.points[p.points[0] : p.points[1]] for p in skin]) if skin else c.points
    off = float(0.5 * (body[:, 0].max() + body[:, 0].min()))
    if abs(low) > 0.02 * c.height or abs(off) > 0.02 * c.height:
        yield Finding(
            station="model", level="should", title="The model doesn't stand on the middle of the ground",
            detail=f"Its lowest point is at {length(low)}, its middle {length(off)} to the side.",
            mend=Mend(label="Ground and centre", step="model.stand"),
        )  # fmt: skip


def _lying(c: Character, jointed: bool) -> str:
    """“z” where an upright body was exported with z up: flat in y, and two bodies of the same width side by side in z."""
    x, y, z = np.ptp(c.points, axis=0)
    # A body with legs has its narrowest waist low along its upright axis; lying, that axis is z.
    if z > 2.2 * y and x > 1.4 * y and not jointed:
        mirrored = c.points * [-1.0, 1.0, 1.0] + [2 * float(c.points[:, 0].mean()), 0, 0]
        return "z" if np.median(cKDTree(c.points).query(mirrored)[0]) < 0.02 * c.size else ""
    return ""


def _mesh_findings(c: Character, h: Health) -> Iterator[Finding]:
    clear = Mend(
        label="Take them away",
        step="model.clear_strays",
        params={"loose": True, "flat": True, "doubled": True, "island_share": 0},
    )
    if h.border_edges:
        yield Finding(
            station="model", level="should", title=counted(h.border_edges, "edge lies on an open border", "edges lie on an open border"),
            detail="An open body can still be bound; a hole where the skin should be whole will show.", points=some(h.border_points),
        )  # fmt: skip
        doubled = _unwelded(c, h)
        if len(doubled):
            yield Finding(
                station="model", level="should", title=counted(len(doubled), "point lies on another one", "points lie on others"),
                detail=f"Nearer than {1000 * WELD * c.size:.2g} mm to one of the same part: the surface falls apart there.", points=some(doubled),
                mend=Mend(label="Weld them", step="model.weld", params={"millimetres": round(1000 * WELD * c.size, 4)}),
            )  # fmt: skip
    if h.nonmanifold_edges:
        yield Finding(
            station="model", level="should", title=counted(h.nonmanifold_edges, "edge is shared by more than two faces", "edges are shared by more than two faces"),
            detail="Evening and normals have no clear neighbour there.", points=some(h.nonmanifold_points),
            mend=clear if h.doubled_faces else None,
        )  # fmt: skip
    if h.turned_edges:
        yield Finding(
            station="model", level="should", title=counted(h.turned_edges, "edge joins faces that disagree about outside", "edges join faces that disagree about outside"),
            detail="Some faces are turned inside out.", points=some(h.turned_points),
            mend=Mend(label="Turn faces outward", step="model.outward"),
        )  # fmt: skip
    if h.flat_faces:
        yield Finding(
            station="model", level="note", title=counted(h.flat_faces, "face has no area", "faces have no area"), points=some(h.flat_points),
            detail="They take part in nothing.", mend=clear,
        )  # fmt: skip
    if h.doubled_faces:
        yield Finding(
            station="model", level="should", title=counted(h.doubled_faces, "face lies twice in the same place", "faces lie twice in the same place"),
            detail="Both will show through each other.", points=some(h.doubled_points), mend=clear,
        )  # fmt: skip
    if len(h.loose_points):
        yield Finding(
            station="model", level="note", title=counted(len(h.loose_points), "point belongs to no face", "points belong to no face"),
            points=some(h.loose_points), mend=clear,
        )  # fmt: skip
    crumbs, count = _crumbs(c)
    if len(crumbs):
        yield Finding(
            station="model", level="note", title=counted(count, "stray island", "stray islands"), points=some(crumbs),
            detail=f"{len(crumbs)} points, apart from the rest of their part and far smaller.",
            mend=Mend(label="Take them away", step="model.clear_strays", params={"loose": False, "flat": False, "doubled": False, "island_share": 0.03}),
        )  # fmt: skip
    if 0 < len(h.asymmetry_points):
        share = len(h.asymmetry_points) / max(h.points, 1)
        near = 1000 * 1.05 * h.asymmetry
        yield Finding(
            station="model", level="note" if share > 0.5 else "should",
            title=f"Left and right differ by up to {length(h.asymmetry)}",
            detail=f"{len(h.asymmetry_points):,} points have no partner across the body plane.", points=some(h.asymmetry_points),
            mend=Mend(label="Make them equal", step="model.symmetrise", params={"millimetres": round(near, 3)})
            if share < 0.5 and h.asymmetry < 0.05 * c.size else None,
        )  # fmt: skip


def _unwelded(c: Character, h: Health) -> np.ndarray:
    """Border points that lie on another border point of the same part."""
    border = h.border_points
    pairs = cKDTree(c.points[border]).query_pairs(WELD * c.size, output_type="ndarray")
    if not len(pairs):
        return np.zeros(0, np.int64)
    part = c.part_numbers("points")
    a, b = border[pairs[:, 0]], border[pairs[:, 1]]
    return np.unique(np.concatenate([a, b])[np.tile(part[a] == part[b], 2)])


def _crumbs(c: Character) -> tuple[np.ndarray, int]:
    """Points of islands far smaller than the largest of their part, and how many islands."""
    topo = topology_of(c)
    used = np.zeros(len(c.points), bool)
    used[topo.corners] = True
    small = used & small_islands(c, 0.03)
    return np.flatnonzero(small), len(np.unique(topo.islands[small]))


# -- ready to bend -----------------------------------------------------------------------------------------------
def readiness_findings(c: Character) -> Iterator[Finding]:
    """Edge loops where joints bend, room between limbs and body, rest near the middle of what joints can do."""
    if not c.joints or not len(c.points):
        return
    few = {n: k for n, k in loops_round(c).items() if k < LEAST_LOOPS}
    if few:
        worst = min(few, key=lambda n: few[n])
        yield Finding(
            station="model", level="should" if few[worst] < 2 else "note",
            title=counted(len(few), "joint has too few edge loops round it", "joints have too few edge loops round them"),
            detail=", ".join(f"{n}: {k:g}" for n, k in sorted(few.items(), key=lambda x: x[1])[:6]) + f"; {LEAST_LOOPS} are the least that bend well.",
            joints=list(few), mend=_loop_mend(c, worst),
        )  # fmt: skip
    gaps = {n: g for n, g in limb_gaps(c).items() if not (n.endswith("_R") and opposite_name(n) in c.joint_index)}
    if gaps:
        limb, (gap, point) = min(gaps.items(), key=lambda x: x[1][0])
        if gap < 0.012 * c.size:
            yield Finding(
                station="model", level="note", title=f"A limb lies {length(gap)} from the body at rest",
                detail=f"The outer half of {limb}. Skins run together where a limb touches; rest should keep it apart.",
                joints=[limb], points=[point],
            )  # fmt: skip
    far = {j.name: off_middle(j) for j in c.joints if np.degrees(off_middle(j)) > 60 and j.side != "R"}
    if far:
        worst = max(far, key=lambda n: far[n])
        yield Finding(
            station="model", level="note", title=counted(len(far), "joint rests far from the middle of its range", "joints rest far from the middle of their range"),
            detail=", ".join(f"{n}: {np.degrees(v):.0f}°" for n, v in sorted(far.items(), key=lambda x: -x[1])[:5])
            + ". Rest should be the pose from which most poses are near: pose it and take the new rest.",
            joints=list(far),
        )  # fmt: skip


def _loop_mend(c: Character, name: str) -> Mend | None:
    """A loop slid in at a joint: across the edge beside it that runs along the limb, not too near to its ends."""
    j = c.joint(name)
    child = bone_child(c, j)
    if child is None:
        return None
    topo = topology_of(c)
    place = np.array(j.place)
    along = np.array(child.place) - place
    along = along / max(float(np.linalg.norm(along)), 1e-9)
    edges = topo.edges
    near = np.linalg.norm(0.5 * (c.points[edges[:, 0]] + c.points[edges[:, 1]]) - place, axis=1) < 2.5 * flesh_at(
        c, place
    )
    rows = np.flatnonzero(near & (topo.edge_faces == 2))
    if not len(rows):
        return None
    way = c.points[edges[rows, 1]] - c.points[edges[rows, 0]]
    size = np.maximum(np.linalg.norm(way, axis=1), 1e-12)
    lengthwise = np.abs(way @ along) / size
    r, cols = topo.edge_corners
    quads = np.array([all(topo.sizes[topo.corner_face[k]] == 4 for k in cols[r[e] : r[e + 1]]) for e in rows])
    at = (place - c.points[edges[rows, 0]]) @ along / np.where(np.abs(way @ along) < 1e-9, 1e-9, way @ along)
    score = np.where((lengthwise > 0.8) & quads & (at > -0.1) & (at < 1.1), -size, np.inf)
    k = int(np.argmin(score))
    if not np.isfinite(score[k]):
        return None
    a, b = (int(v) for v in edges[rows[k]])
    return Mend(
        label=f"Slide a loop in at {name}",
        step="model.slide_loop",
        params={"edge": [a, b], "at": round(float(np.clip(at[k], 0.25, 0.75)), 3)},
    )
