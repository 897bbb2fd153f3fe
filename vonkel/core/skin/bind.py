"""Binding by distance through the volume.

Every bone's distance to every point is measured inside the body, so that a hand resting beside a thigh is far
from it.  Where bones run close together (digits), a finer grid of their own is used: the narrowest gap decides
what size of cell tells two fingers apart.  Weights fall with distance and are then evened along the surface,
where a joint may only spread to points that are near to it through the volume: evening must not bring back what
the distances kept apart.

The idea of measuring through filled cells follows Dionne & de Lasa 2013, Geodesic voxel binding for production
character meshes; the distances, grids, falloff and evening here are our own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..character import Character, Joint, Skin, opposite_name
from ..compiled import compiled
from ..errors import NotFound, StepRefused
from ..geometry.health import mirror_distance
from ..geometry.topology import point_normals, topology_of
from ..geometry.voxels import STEP_LENGTHS, Solid, distances_through, solid_from_mesh
from ..progress import tell
from ..tolerances import PAIR, WEIGHT_FLOOR

RIGID_ROLES = ("eye", "jaw")  # these hold whole parts; the skin over them moves by morph targets
CELLS_ALONG = 128  # cells along the longest side of the body grid
FADE = 3.2  # a joint this many times as far as the nearest one holds nothing
FINE_CELLS = 3_000_000  # the most cells a fine grid may have


@dataclass(frozen=True)
class Bone:
    """A deforming joint's reach: segments from it to its children (a point where it has none)."""

    joint: str
    segments: np.ndarray  # (s, 2, 3) metres


def bones_of(character: Character) -> list[Bone]:
    """Bones of all deforming joints, in character order."""
    found = []
    for j in character.joints:
        if not j.deforms or j.role in RIGID_ROLES:
            continue
        start = np.array(j.place)
        kids = [c for c in character.children.get(j.name, ()) if c.role not in ("eye",)]
        main = [c for c in kids if c.side == j.side] or kids
        ends = (
            [np.array(c.place) for c in main[:1]]
            if j.role not in ("hand", "foot")
            else [np.array(c.place) for c in main]
        )
        segments = [[start, e] for e in ends] or [[start, _run_on(character, j)]]
        for held in character.children.get(j.name, ()):  # what rides rigidly on a joint is part of its reach: the
            if held.role in RIGID_ROLES:  # muzzle belongs to the head, however near the neck runs below it
                tip = next((np.array(c.place) for c in character.children.get(held.name, ())), np.array(held.place))
                segments += [[start, np.array(held.place)], [np.array(held.place), tip]]
        found.append(Bone(j.name, np.array(segments)))
    return found


def _run_on(character: Character, joint: Joint) -> np.ndarray:
    """Where the bone of a joint without a child ends: straight on from its parent's, nearly as long."""
    start = np.array(joint.place)
    if joint.parent is None:
        return start
    return np.asarray(start + 0.8 * (start - np.array(character.joint(joint.parent).place)))


def distance_to_segments(points: np.ndarray, segments: np.ndarray) -> np.ndarray:
    """(n,) metres from points (n, 3) to the nearest of segments (s, 2, 3)."""
    best = np.full(len(points), np.inf)
    for a, b in segments:
        d = b - a
        t = np.clip((points - a) @ d / max(float(d @ d), 1e-18), 0.0, 1.0)
        best = np.minimum(best, np.linalg.norm(points - a - t[:, None] * d, axis=1))
    return best


def cells_on(solid: Solid, segments: np.ndarray) -> np.ndarray:
    """Inside cells along segments; the nearest inside cell where a stretch lies outside."""
    samples = []
    # A bone may reach far out of the body: what lies beyond has no cells of its own, however finely it is looked at.
    most = 4 * int(np.linalg.norm(np.ptp(solid.centres, axis=0)) / solid.h + 8)
    for a, b in segments:
        n = min(max(int(np.ceil(np.linalg.norm(b - a) / (0.5 * solid.h))), 1), most)
        samples.append(a + (b - a) * np.linspace(0.0, 1.0, n + 1)[:, None])
    return np.unique(solid.nearest(np.concatenate(samples)))


def flesh(solid: Solid, bone: Bone) -> float:
    """Metres from a bone to the surface round it: on its thickest segment, what two thirds of the depths keep below."""
    t = np.linspace(0.0, 1.0, 9)[:, None]
    along = [solid.depth[solid.nearest(a + (b - a) * t)] for a, b in bone.segments]
    return max(max(float(np.percentile(d, 65)) for d in along), 0.5 * solid.h)


def through_distance(solid: Solid, bone: Bone, cell_of: np.ndarray, points: np.ndarray, limit: float) -> np.ndarray:
    """(n,) metres from a bone to points through the volume; inf past `limit`.

    Where the way through the cells is as good as straight the exact straight distance is taken (steps between
    cells overrate by up to 10 %); where it goes round a gap the straight distance is stretched by the detour.
    """
    sources = cells_on(solid, bone.segments)
    start = distance_to_segments(solid.centres[sources], bone.segments)
    steps = STEP_LENGTHS * solid.h
    dist, _ = distances_through(solid.links, steps, np.ones(len(solid.cells)), sources, start, limit)
    straight_cell = distance_to_segments(solid.centres[cell_of], bone.segments)
    detour = (dist[cell_of] + solid.h) / np.maximum(straight_cell + solid.h, 1e-9)
    straight = distance_to_segments(points, bone.segments)
    return np.where(np.isfinite(dist[cell_of]), straight * np.maximum(1.0, detour / 1.12) ** 2, np.inf)


def _cells_for(solid: Solid, points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """The inside cell that stands for each surface point: looked for just under the surface."""
    return solid.nearest(points - normals * (0.75 * solid.h))


def _close_groups(bones: list[Bone], near: float, solid: Solid) -> list[list[int]]:
    """Groups of bones that don't meet and yet run closer than `near` (digits of a hand or foot).

    Only short bones in thin flesh count: long limbs and a thick trunk don't need finer cells.
    """
    n = len(bones)
    group = list(range(n))

    def root(i: int) -> int:
        while group[i] != i:
            i = group[i]
        return i

    lengths = [float(np.linalg.norm(b.segments[:, 1] - b.segments[:, 0], axis=1).max()) for b in bones]
    thick = [float(solid.depth[solid.nearest(b.segments.mean(1))].min()) for b in bones]
    small = [i for i in range(n) if 0 < lengths[i] < 3.0 * near and thick[i] < 0.4 * near]
    for x, i in enumerate(small):
        samples = bones[i].segments[:, :1] + (bones[i].segments[:, 1:] - bones[i].segments[:, :1]) * np.linspace(
            0.5, 1, 5
        ).reshape(1, 5, 1)
        for j in small[x + 1 :]:
            ends_i, ends_j = bones[i].segments.reshape(-1, 3), bones[j].segments.reshape(-1, 3)
            touch = np.linalg.norm(ends_i[:, None] - ends_j[None], axis=2).min() < 1e-6
            if not touch and distance_to_segments(samples.reshape(-1, 3), bones[j].segments).min() < near:
                group[root(j)] = root(i)
    sets: dict[int, list[int]] = {}
    for i in small:
        sets.setdefault(root(i), []).append(i)
    return [g for g in sets.values() if len(g) > 2]


@dataclass(frozen=True)
class Surface:
    """What a binding method is given: points (n, 3) and triangles (t, 3) of the skin, which points are skin (n,) bool, the
    bones, how fast a hold fades (higher: sharper), and rounds of evening along the surface."""

    character: Character
    points: np.ndarray
    triangles: np.ndarray
    soft: np.ndarray
    bones: list[Bone]
    falloff: float
    smooth: int


@dataclass(frozen=True)
class Binding:
    """A way to bind: `weights` gives (s, b) for the skin's points and the bones, rows summing to one."""

    title: str
    about: str
    weights: Callable[[Surface], np.ndarray]


BINDINGS: dict[str, Binding] = {}
"""The ways to bind, by the word that the step takes.  A new one is a function and a line here."""


def bind_skin(
    character: Character, influences: int = 4, falloff: float = 5.0, smooth: int = 20, deforming: str = "dual",
    by: str = "volume",
) -> Character:  # fmt: skip
    """Bind every skin part to the deforming joints; other parts follow one joint each, rigidly.

    influences: the most joints that may hold a point; falloff: how fast a joint's hold fades with distance
    (higher: sharper); smooth: rounds of evening along the surface; deforming: how joints' moves are blended; by: one of
    BINDINGS.  Raises StepRefused where there are no deforming joints, or where the method can't work on this mesh.
    """
    if by not in BINDINGS:
        raise NotFound(f"There is no way to bind “{by}”.", character.name, f"There are: {', '.join(BINDINGS)}.")
    bones = bones_of(character)
    holders = [Bone(j.name, np.array([[j.place, j.place]])) for j in character.joints if j.role in RIGID_ROLES]
    if not bones:
        raise StepRefused("There is nothing to bind to.", "no deforming joints", "Lay a plan or draw joints first.")
    points, topo = character.points, topology_of(character)
    weights = np.zeros((len(points), len(bones) + len(holders)))
    soft = np.zeros(len(points), bool)
    for part in character.parts:
        if part.role == "skin":
            soft[part.points[0] : part.points[1]] = True
    if soft.any():
        keep = soft[topo.triangles[:, 0]]
        surface = Surface(character, points, topo.triangles[keep], soft, bones, falloff, smooth)
        weights[soft, : len(bones)] = BINDINGS[by].weights(surface)
    bones = bones + holders
    _hold_rigid_parts(character, bones, weights)
    tell(0.95, "keeping the strongest influences")
    chosen, values = strongest(weights, influences)
    return character.with_(
        skin=Skin(joints=tuple(b.joint for b in bones), method=deforming, influences=influences),
        arrays={"skin/joints": chosen, "skin/weights": values},
    )


def weights_through_volume(s: Surface) -> np.ndarray:
    """By distance through the filled body (see the head of this file)."""
    character, points, triangles, soft, bones = s.character, s.points, s.triangles, s.soft, s.bones
    falloff, smooth = s.falloff, s.smooth
    tell(0.02, "filling the body")
    h = character.size / CELLS_ALONG
    half = np.ceil(np.abs(points[:, 0]).max() / h + 1) * h  # cells lie alike on both sides of x = 0
    low, high = points.min(0) - h, points.max(0) + h
    low[0], high[0] = -half, half
    solid = solid_from_mesh(points, triangles, h, (low, high))
    if len(solid.cells) < 8:
        raise StepRefused(
            "The body has no inside to measure through.",
            "the skin parts are open or flat",
            "Close its borders first, or bind by the nearest bone.",
        )
    normals = point_normals(points, triangles)[soft]
    surface = points[soft]
    cells = _cells_for(solid, surface, normals)
    distance = np.full((len(surface), len(bones)), np.inf)
    groups = _close_groups(bones, 7.0 * h, solid)
    fine = {i for g in groups for i in g}
    # A joint only matters where it is at most FADE times as far as the nearest one, so the search may stop there.
    # Distances count in units of the flesh round each bone: a flank is far from the spine and yet belongs to it,
    # not to the thin arm that hangs nearer.
    radius = np.array([flesh(solid, b) for b in bones])
    straight = np.stack([distance_to_segments(surface, b.segments) for b in bones], 1)
    matters = straight / radius < FADE * np.maximum((straight / radius).min(1, keepdims=True), 0.25)
    reach = np.where(matters, straight, 0.0).max(0) * 1.25 + 2 * h
    for i, bone in enumerate(bones):
        tell(0.05 + 0.5 * i / len(bones), f"measuring from {bone.joint}")
        if i not in fine:
            distance[:, i] = through_distance(solid, bone, cells, surface, float(reach[i]))
    for g, group in enumerate(groups):
        tell(0.55 + 0.2 * g / len(groups), f"measuring finely round {bones[group[0]].joint}")
        _fine_distances(points, triangles, surface, normals, bones, group, h, distance, radius)
    tell(0.8, "evening the weights")
    nearest = distance.min(1, keepdims=True)
    lost = ~np.isfinite(nearest[:, 0])
    if lost.any():  # unreachable pieces: the straight distance is better than nothing, and is a finding later
        for i, bone in enumerate(bones):
            distance[lost, i] = distance_to_segments(surface[lost], bone.segments)
        nearest = distance.min(1, keepdims=True)
    distance /= radius
    ratio = distance / np.maximum(distance.min(1, keepdims=True), 0.25)
    weights = np.maximum(ratio, 1.0) ** -falloff
    allowed = np.clip((FADE - ratio) / (0.5 * FADE), 0.0, 1.0)
    weights = weights * allowed
    weights /= weights.sum(1, keepdims=True)
    return both_sides_alike(even(weights, allowed, character, soft, smooth), surface, bones, character.size)


def _fine_distances(
    points: np.ndarray, triangles: np.ndarray, surface: np.ndarray, normals: np.ndarray, bones: list[Bone],
    group: list[int], h: float, distance: np.ndarray, radius: np.ndarray,
) -> None:  # fmt: skip
    """Fill the columns of a group of close bones from a finer grid round them."""
    ends = np.concatenate([bones[i].segments.reshape(-1, 3) for i in group])
    margin = 6.0 * h
    low, high = ends.min(0) - margin, ends.max(0) + margin
    cell = max(0.4 * h, (float(np.prod(high - low)) / FINE_CELLS) ** (1 / 3))
    low, high = np.floor(low / cell) * cell, np.ceil(high / cell) * cell
    near = ((points[triangles].max(1) >= low) & (points[triangles].min(1) <= high)).all(1)
    if not near.any():
        return
    # Lines are judged by their crossings, so triangles beside the box in any one axis still count.
    solid = solid_from_mesh(points, triangles, cell, (low, high))
    inside = ((surface >= low) & (surface <= high)).all(1)
    if not len(solid.cells) or not inside.any():
        return
    cells = _cells_for(solid, surface[inside], normals[inside])
    for i in group:
        radius[i] = flesh(solid, bones[i])
        distance[inside, i] = through_distance(solid, bones[i], cells, surface[inside], margin * 1.5)


def _hold_rigid_parts(character: Character, bones: list[Bone], weights: np.ndarray) -> None:
    """Each part that isn't skin is held by one joint: eyes by the eye joint at their centre, others by the nearest."""
    index = {b.joint: i for i, b in enumerate(bones)}
    for part in character.parts:
        if part.role == "skin":
            continue
        middle = character.points[part.points[0] : part.points[1]].mean(0)
        holder = holder_of(character, part.role, part.name, middle, index)
        weights[part.points[0] : part.points[1]] = 0.0
        weights[part.points[0] : part.points[1], index[holder]] = 1.0


def holder_of(character: Character, role: str, name: str, middle: np.ndarray, index: dict[str, int]) -> str:
    """The joint that should hold a rigid part."""

    def nearest(wanted: list[str]) -> str:
        return min(wanted, key=lambda n: float(np.linalg.norm(np.array(character.joint(n).place) - middle)))

    eyes = [j.name for j in character.joints if j.role == "eye" and j.name in index]
    if role == "eye" and eyes:
        return nearest(eyes)
    jaw = next((j.name for j in character.joints if j.role == "jaw" and j.name in index), None)
    head = next((j.name for j in character.joints if j.role == "head" and j.name in index), None)
    if role == "tongue" and jaw:
        return jaw
    if role == "teeth" and head:
        return jaw if jaw and "lower" in name.lower() else head
    return nearest(list(index))


def both_sides_alike(weights: np.ndarray, surface: np.ndarray, bones: list[Bone], size: float) -> np.ndarray:
    """Weights (s, b) made equal left and right, where both the surface and the joints are; otherwise as they are."""
    index = {b.joint: i for i, b in enumerate(bones)}
    partner = np.array([index.get(opposite_name(b.joint), -1) for b in bones])
    distance, other = mirror_distance(surface)
    if (partner < 0).any() or distance.max() > PAIR * size:
        return weights
    for i, b in enumerate(bones):
        here, there = b.segments.reshape(-1, 3).mean(0), bones[partner[i]].segments.reshape(-1, 3).mean(0)
        if np.abs(here * [-1, 1, 1] - there).max() > PAIR * size:
            return weights
    weights = 0.5 * (weights + weights[other][:, partner])
    # On such a body no limb lies beyond the middle, so a side's joints fade out soon past it.
    side = np.array([np.sign(b.segments[:, :, 0].mean()) if partner[i] != i else 0.0 for i, b in enumerate(bones)])
    beyond = np.maximum(-surface[:, :1] * side, 0.0)
    weights *= np.clip(1.0 - beyond / (0.04 * size), 0.0, 1.0)
    return np.asarray(weights / weights.sum(1, keepdims=True))


@compiled
def _even_rounds(weights: np.ndarray, allowed: np.ndarray, rows: np.ndarray, cols: np.ndarray, rounds: int) -> Any:
    n, b = weights.shape
    for _ in range(rounds):
        new = np.empty_like(weights)
        for i in range(n):
            k = rows[i + 1] - rows[i]
            total = 0.0
            for j in range(b):
                s = 0.0
                if allowed[i, j] > 0.0:
                    for e in range(rows[i], rows[i + 1]):
                        s += weights[cols[e], j]
                    s = (weights[i, j] + s) / (1.0 + k) * allowed[i, j] ** 0.25
                new[i, j] = s
                total += s
            if total > 0.0:
                for j in range(b):
                    new[i, j] /= total
            else:
                new[i] = weights[i]
        weights = new
    return weights


def even(weights: np.ndarray, allowed: np.ndarray, character: Character, soft: np.ndarray, rounds: int) -> np.ndarray:
    """Average weights (s, b) over neighbours for some rounds; a joint only spreads where `allowed` (s, b) is over 0."""
    rows, cols = topology_of(character).neighbours
    number = np.cumsum(soft) - 1
    if not soft.all():
        keep = np.flatnonzero(soft)
        cols = number[np.concatenate([cols[rows[i] : rows[i + 1]] for i in keep])] if len(keep) else cols
        rows = np.concatenate([[0], np.cumsum(np.diff(rows)[keep])])
    return np.asarray(_even_rounds(weights, allowed, rows.astype(np.int64), cols.astype(np.int64), rounds))


def weights_by_nearest_bone(s: Surface) -> np.ndarray:
    """Each point to the bone that is nearest in a straight line, then evened.  For open or flat meshes and hard things."""
    surface = s.points[s.soft]
    distance = np.stack([distance_to_segments(surface, b.segments) for b in s.bones], 1)
    weights = np.zeros_like(distance)
    weights[np.arange(len(surface)), distance.argmin(1)] = 1.0
    weights = even(weights, np.ones_like(weights), s.character, s.soft, s.smooth)
    return both_sides_alike(weights, surface, s.bones, s.character.size)


BINDINGS |= {
    "volume": Binding(
        "through the volume",
        "by distance through the filled body: a hand beside a thigh is far from it",
        weights_through_volume,
    ),
    "nearest": Binding(
        "by the nearest bone", "in a straight line: for open or flat meshes and hard things", weights_by_nearest_bone
    ),
}


def strongest(weights: np.ndarray, influences: int) -> tuple[np.ndarray, np.ndarray]:
    """The `influences` largest weights of each row, floored and summing to one: uint16 and float32 (n, k).

    The next largest weight is taken off them first, so that a joint which drops out along the surface has faded
    to nothing there: cutting alone leaves a step wherever more joints than that share a region.
    """
    k = min(influences, weights.shape[1])
    if k < weights.shape[1]:
        next_largest = -np.partition(-weights, k, axis=1)[:, k : k + 1]
        weights = np.maximum(weights - next_largest, 0.0)
    chosen = np.argpartition(-weights, k - 1, axis=1)[:, :k]
    values = np.take_along_axis(weights, chosen, 1)
    order = np.argsort(-values, axis=1, kind="stable")
    chosen, values = np.take_along_axis(chosen, order, 1), np.take_along_axis(values, order, 1)
    values = np.where(values < WEIGHT_FLOOR, 0.0, values)
    lost = values[:, 0] <= 0.0  # two joints hold a point alike: taking one off the other left nothing to either
    values[lost, 0] = 1.0
    values /= values.sum(1, keepdims=True)
    chosen = np.where(values > 0, chosen, chosen[:, :1])
    if k < influences:
        pad = influences - k
        chosen = np.concatenate([chosen, np.repeat(chosen[:, :1], pad, 1)], 1)
        values = np.concatenate([values, np.zeros((len(values), pad))], 1)
    return chosen.astype(np.uint16), values.astype(np.float32)


def weights_of(character: Character, joint: str) -> np.ndarray:
    """(n,) float32: how much `joint` holds each point; zeros where it holds none."""
    out = np.zeros(len(character.points), np.float32)
    if character.skin is None or joint not in character.skin.joints:
        return out
    index = character.skin.joints.index(joint)
    hit = character.arrays["skin/joints"] == index
    return np.asarray(np.where(hit, character.arrays["skin/weights"], 0).sum(1).astype(np.float32))
