"""Mends for a mesh that came in untidy: welding, winding, strays, symmetry, parts.

Every function gives a new character and leaves what it did not have to touch bit for bit as it was.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import breadth_first_order, connected_components
from scipy.spatial import cKDTree

from ..character import Character, unique_name
from ..errors import BadParameters, StepRefused
from .health import mirror_partners
from .surgery import Knife
from .topology import doubled_faces, face_areas, faces_of, topology_of


def welded(character: Character, within: float, across_parts: bool = False) -> Character:
    """Points nearer than `within` metres become one, at the first one's place; by default inside each part only.

    Faces that fall flat by it are dropped; parts that come to share points become one, under the name of the first.  Raises
    StepRefused where no two points are that near, and where no face would be left of a part.
    """
    points = character.points
    pairs = cKDTree(points).query_pairs(within, output_type="ndarray") if len(points) else np.zeros((0, 2), int)
    knife = Knife(character)
    if not across_parts and len(pairs):
        pairs = pairs[knife.point_part[pairs[:, 0]] == knife.point_part[pairs[:, 1]]]
    if not len(pairs):
        raise StepRefused(
            f"No two points are nearer than {1000 * within:g} mm.", character.name, "Weld within a larger distance."
        )
    n = len(points)
    group = connected_components(coo_matrix((np.ones(len(pairs)), pairs.T), (n, n)), directed=False)[1]
    _, first = np.unique(group, return_index=True)
    shared = np.stack([knife.point_part, knife.point_part[first[group]]], 1)
    count = len(character.parts)
    kin = connected_components(coo_matrix((np.ones(n), shared.T), (count, count)), directed=False)[1]
    one = np.unique(kin, return_index=True)[1][kin]  # of each part: the first of those that it is welded to
    knife.point_part, knife.face_part, knife.line_part = (
        one[knife.point_part],
        one[knife.face_part],
        one[knife.line_part],
    )
    knife.join_points(first[group])
    made = knife.finish()
    kept = [character.parts[i] for i in np.unique(one)]
    had = {p.name for p in kept if p.faces[0] < p.faces[1]}
    gone = sorted(had - {p.name for p in made.parts if p.faces[0] < p.faces[1]})
    if gone:
        raise StepRefused(
            f"No face would be left of {gone[0]}.", f"within {1000 * within:g} mm", "Weld within a smaller distance."
        )
    return made


def outward(character: Character, parts: tuple[str, ...] = ()) -> Character:
    """Faces turned so that neighbours agree and every closed piece has its outside outside.

    A piece that isn't closed is judged by the same sum, taken about its own middle.
    """
    topo = topology_of(character)
    faces = len(topo.sizes)
    rows, cols = topo.edge_corners
    two = np.flatnonzero(np.diff(rows) == 2)
    c1, c2 = cols[rows[two]], cols[rows[two] + 1]
    f1, f2 = topo.corner_face[c1], topo.corner_face[c2]
    turned = topo.corners[c1] == topo.corners[c2]  # both run the same way along the edge
    real = f1 != f2
    f1, f2, turned = f1[real], f2[real], turned[real]
    weight = np.where(turned, 2, 1)
    graph = coo_matrix((np.r_[weight, weight], (np.r_[f1, f2], np.r_[f2, f1])), (faces, faces)).tocsr()
    graph.data = np.minimum(graph.data, 2)
    _, piece = connected_components(graph, directed=False)
    flip = np.zeros(faces, bool)
    _, roots = np.unique(piece, return_index=True)
    for root in roots:
        order, before = breadth_first_order(graph, root, directed=False)
        if len(order) < 2:
            continue
        for f in order[1:]:
            p = before[f]
            at = np.searchsorted(graph.indices[graph.indptr[f] : graph.indptr[f + 1]], p)
            flip[f] = flip[p] ^ (graph.data[graph.indptr[f] + at] == 2)
    a, b = character.points[topo.corners], character.points[topo.corner_next]
    total = np.stack([np.bincount(piece[topo.corner_face], a[:, k]) for k in range(3)], 1)
    middle = total.astype(float) / np.maximum(np.bincount(piece[topo.corner_face]), 1)[:, None]
    a, b = a - middle[piece[topo.corner_face]], b - middle[piece[topo.corner_face]]
    first = a[topo.starts[:-1]][topo.corner_face]
    six = np.einsum("ij,ij->i", first, np.cross(a, b)) * np.where(flip[topo.corner_face], -1.0, 1.0)
    inside_out = np.bincount(piece[topo.corner_face], six) < 0
    flip ^= inside_out[piece]
    if parts:
        flip &= faces_of(character, map(character.part, parts))
    return flipped(character, flip)


def flipped(character: Character, which: np.ndarray) -> Character:
    """The faces marked in `which` (f,) bool turned over, each keeping its first corner."""
    if not which.any():
        raise StepRefused("Every face looks outward already.", character.name)
    topo = topology_of(character)
    size = topo.sizes[topo.corner_face]
    at = np.arange(len(topo.corners)) - topo.starts[:-1][topo.corner_face]
    source = topo.starts[:-1][topo.corner_face] + np.where(which[topo.corner_face], (size - at) % size, at)
    arrays: dict[str, np.ndarray | None] = {"face_corners": character.arrays["face_corners"][source]}
    if "uvs" in character.arrays:
        arrays["uvs"] = character.arrays["uvs"][source]
    return character.with_(arrays=arrays)


def small_islands(character: Character, share: float) -> np.ndarray:
    """(n,) bool: points of islands that hold less than `share` of the points of the largest island of their part."""
    islands, part = topology_of(character).islands, character.part_numbers("points")
    counts = np.bincount(islands)
    largest = np.zeros(max(len(character.parts), 1), np.int64)
    np.maximum.at(largest, part, counts[islands])
    return np.asarray(counts[islands] < share * largest[part])


def without_strays(
    character: Character, loose: bool = True, flat: bool = True, doubled: bool = True, island_share: float = 0.03
) -> Character:
    """Loose points, faces without area, doubled faces, and islands that hold less than `island_share` of the points of
    the largest island of their part, taken away.  Raises StepRefused where there is nothing of the kind.
    """
    topo = topology_of(character)
    knife = Knife(character)
    if doubled:
        knife.keep_face[doubled_faces(topo)] = False
    if flat:
        knife.keep_face[face_areas(character.points, topo) < (character.height * 1e-6) ** 2] = False
    if island_share > 0:
        small = small_islands(character, island_share)
        knife.keep_face[small[topo.corners[topo.starts[:-1]]]] = False
    gone = int((~knife.keep_face).sum())
    if loose or gone:
        knife.drop_loose()
    made = knife.finish()
    if not gone and len(made.points) == len(character.points):
        raise StepRefused("There is nothing astray.", character.name)
    return made


def symmetrised(character: Character, within: float, side: str = "both") -> Character:
    """Left and right made equal: partners across x = 0 are put on mirrored places.

    within: how far from its mirrored place a partner may lie, metres.  side: “both” takes the mean of the two, “left”
    and “right” keep that side and move the other.  Points on the middle come to x = 0.  Points without a partner stay
    where they are.  Raises StepRefused where hardly any point has a partner.
    """
    points = character.points
    distance, partner = mirror_partners(character)
    mutual = (partner[partner] == np.arange(len(points))) & (distance <= within)
    if mutual.mean() < 0.5:
        raise StepRefused(
            f"Only {mutual.sum():,} of {len(points):,} points have a partner within {1000 * within:.1f} mm.",
            character.name, "Centre the model, or look for partners farther away.",
        )  # fmt: skip
    mirrored = points[partner] * [-1.0, 1.0, 1.0]
    place = points.copy()
    if side == "both":
        # One of two partners takes the mean and the other is its mirror image: equal to the bit.
        first = np.arange(len(points)) <= partner
        own, other = mutual & first, mutual & ~first
        place[own] = 0.5 * (points[own] + mirrored[own])
        place[other] = place[partner[other]] * [-1.0, 1.0, 1.0]
    else:
        keep = points[:, 0] > 0 if side == "left" else points[:, 0] < 0
        move = mutual & ~keep
        place[move] = mirrored[move]
    itself = mutual & (partner == np.arange(len(points)))
    place[itself, 0] = 0.0
    return character.with_(arrays={"points": place})


# -- parts -------------------------------------------------------------------------------------------------------
def split_part(character: Character, name: str, by: str) -> Character:
    """One part made several: by connected island, or by the group that its faces came with.

    The largest piece keeps the name.  Points that two groups share are doubled, so that each piece has its own.
    """
    part = character.part(name)
    topo = topology_of(character)
    faces = np.arange(*part.faces)
    at = list(character.parts).index(part)
    if by == "island":
        label = topo.islands[topo.corners[topo.starts[:-1][faces]]]
    else:
        if "face_groups" not in character.arrays:
            raise StepRefused("The mesh came without groups.", name, "Split it by island.")
        label = character.arrays["face_groups"][faces].astype(np.int64)
    found, piece, counts = np.unique(label, return_inverse=True, return_counts=True)
    if len(found) < 2:
        raise StepRefused(f"{name} is of one piece.", character.name, "There is nothing to split.")
    if len(found) > 60:
        raise StepRefused(
            f"{name} has {len(found)} pieces.", character.name, "Delete strays or weld first; 60 at most are split."
        )
    knife = Knife(character)
    order = np.argsort(-counts, kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    piece = rank[np.asarray(piece).ravel()]
    taken = {p.name for p in character.parts}
    numbers = [at]
    for k in range(1, len(found)):
        own = character.groups[int(found[order[k]])] if by == "group" else ""
        new = unique_name((own or f"{name} piece")[:60], taken)
        taken.add(new)
        numbers.append(len(knife.parts))
        knife.parts.append(part.model_copy(update={"name": new}))
    index = np.array(numbers)
    knife.face_part[faces] = index[piece]
    corner_piece = np.repeat(piece, topo.sizes[faces])
    corners = np.arange(topo.starts[part.faces[0]], topo.starts[part.faces[1]])
    owner = np.full(len(character.points), len(found))
    np.minimum.at(owner, topo.corners[corners], corner_piece)
    inside = np.flatnonzero(owner < len(found))
    knife.point_part[inside] = index[owner[inside]]
    copies: dict[tuple[int, int], int] = {}
    for c, k in zip(corners.tolist(), corner_piece.tolist(), strict=True):
        point = int(topo.corners[c])
        if owner[point] != k:
            if (point, k) not in copies:
                copies[(point, k)] = knife.add_point({point: 1.0}, part=int(index[k]))
            knife.corners[c] = copies[(point, k)]
    return knife.finish()


def joined_parts(character: Character, names: tuple[str, ...]) -> Character:
    """Several parts made one, under the first one's name and role; nothing is welded."""
    if len(set(names)) < 2:
        raise BadParameters("Joining wants at least two parts.", character.name, "Choose another part too.")
    parts = [character.part(n) for n in names]
    knife = Knife(character)
    target = list(character.parts).index(parts[0])
    for p in parts[1:]:
        i = list(character.parts).index(p)
        knife.point_part[knife.point_part == i] = target
        knife.face_part[knife.face_part == i] = target
        knife.line_part[knife.line_part == i] = target
    return knife.finish()


def without_part(character: Character, name: str) -> Character:
    """The character without one part.  Raises StepRefused for the last one."""
    part = character.part(name)
    if len(character.parts) == 1:
        raise StepRefused(f"{name} is the only part.", character.name, "Bring in another first.")
    knife = Knife(character)
    i = list(character.parts).index(part)
    knife.keep_face[knife.face_part == i] = False
    knife.drop_points(knife.point_part == i)
    keep = np.repeat(knife.line_part != i, np.diff(character.arrays["line_starts"])) if len(knife.line_part) else None
    if keep is not None and not keep.all():
        starts = np.diff(character.arrays["line_starts"])[knife.line_part != i]
        character = character.with_(arrays={"line_starts": np.r_[0, np.cumsum(starts)].astype(np.int32)})
        knife.character = character
        knife.line_points = knife.line_points[keep]
        knife.line_part = knife.line_part[knife.line_part != i]
    return knife.finish()
