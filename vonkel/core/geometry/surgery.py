"""Cutting and joining meshes so that all that hangs on their points follows.

Every change to faces goes through a Knife: new points are weighted means of old ones, new corners take their texture
places from means of old corners, and when the knife is put down places, colours, texture places, skin weights, morph
targets, groups and parts are made to fit.  Points and faces that nobody touched come out bit for bit as they were.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from scipy import sparse

from ..character import Character, Part
from ..errors import StepRefused

Mean = dict[int, float]
"""Old points (or old corners) and their shares, which sum to one."""


class Knife:
    """One cut into a character's mesh.  `finish` gives the character with the cut made."""

    def __init__(self, character: Character) -> None:
        self.character = character
        arrays = character.arrays
        self.starts = arrays["face_starts"].astype(np.int64)
        self.corners = arrays["face_corners"].astype(np.int64).copy()
        self.count = len(character.points)
        self.keep_face = np.ones(len(self.starts) - 1, bool)
        self.point_part, self.face_part = character.part_numbers("points"), character.part_numbers("faces")
        self.line_part = character.part_numbers("lines")
        self.line_points = (
            arrays["line_points"].astype(np.int64).copy() if "line_points" in arrays else np.zeros(0, np.int64)
        )
        self.parts: list[Part] = list(character.parts)
        self.place = np.array(character.points)  # may be moved in place; shapes keep their moves
        self._means: list[Mean] = []
        self._new_part: list[int] = []
        self._new_place: list[np.ndarray] = []
        self._faces: list[Sequence[int]] = []
        self._face_uvs: list[Sequence[Mean] | None] = []
        self._face_of: list[int] = []
        self._drop_points = np.zeros(self.count, bool)

    # -- changes -------------------------------------------------------------------------------------------------
    def add_point(self, mean: Mean, place: np.ndarray | None = None, part: int | None = None) -> int:
        """A new point at the mean of old ones (or at `place`), in their part or another.

        Returns its number, which holds until `finish`.
        """
        self._means.append(mean)
        self._new_part.append(int(self.point_part[next(iter(mean))]) if part is None else part)
        at = (
            sum((w * self.place[i] for i, w in mean.items()), np.zeros(3))
            if place is None
            else np.asarray(place, float)
        )
        self._new_place.append(at)
        return self.count + len(self._means) - 1

    def take_face(self, face: int) -> None:
        self.keep_face[face] = False

    def add_face(self, points: Sequence[int], like: int, uvs: Sequence[Mean] | None = None) -> None:
        """A new face in the part and group of face `like`; `uvs` are means of old corners, one for each corner."""
        self._faces.append(points)
        self._face_uvs.append(uvs)
        self._face_of.append(like)

    def drop_points(self, which: np.ndarray) -> None:
        """Let go of the points marked in `which` (n,); no kept face may use them."""
        self._drop_points |= which

    def drop_loose(self) -> None:
        """Let go of points that no kept face and no line uses; a part all of whose points go is gone."""
        used = np.zeros(self.count, bool)
        used[self.corners[np.repeat(self.keep_face, np.diff(self.starts))]] = True
        used[self.line_points] = True
        for face in self._faces:
            used[[p for p in face if p < self.count]] = True
        self._drop_points |= ~used

    def join_points(self, onto: np.ndarray) -> None:
        """Every point i becomes onto[i] (n,); points joined away are dropped, corners that fall together too."""
        self.corners = onto[self.corners]
        self.line_points = onto[self.line_points]
        self._drop_points |= onto != np.arange(self.count)

    # -- putting it back ------------------------------------------------------------------------------------------
    def finish(self) -> Character:
        """The character after the cut.  Raises StepRefused where nothing of the mesh is left."""
        sizes = np.diff(self.starts)
        corner_face = np.repeat(np.arange(len(sizes)), sizes)
        keep_corner = self.keep_face[corner_face]
        corners, corner_face, corner_old = (
            self.corners[keep_corner],
            corner_face[keep_corner],
            np.flatnonzero(keep_corner),
        )
        corners, corner_face, corner_old = _without_repeats(corners, corner_face, corner_old)
        faces, counts = np.unique(corner_face, return_counts=True)
        face_part, face_like = self.face_part[faces], faces
        if self._faces:
            corners = np.concatenate([corners, np.concatenate([np.asarray(f, np.int64) for f in self._faces])])
            counts = np.concatenate([counts, [len(f) for f in self._faces]]).astype(np.int64)
            like = np.array(self._face_of, np.int64)
            face_part = np.concatenate([face_part, self.face_part[like]])
            face_like = np.concatenate([face_like, like])
        total = self.count + len(self._means)
        keep_point = np.ones(total, bool)
        keep_point[: self.count] = ~self._drop_points
        point_part = np.concatenate([self.point_part, np.array(self._new_part, np.int64)])
        order = np.flatnonzero(keep_point)
        order = order[np.argsort(point_part[order], kind="stable")]
        number = np.full(total, -1, np.int64)
        number[order] = np.arange(len(order))
        face_order = np.argsort(face_part, kind="stable")
        starts = np.concatenate([[0], np.cumsum(counts)])
        new_starts, take = _rows_taken(starts, face_order)
        flat = number[corners[take]]
        if not len(order) or len(flat) and flat.min() < 0:
            raise StepRefused("Nothing of the mesh would be left.", self.character.name, "Choose less.")
        mix = self._mix(order, total)
        arrays: dict[str, np.ndarray | None] = {
            "points": np.concatenate([self.place, np.array(self._new_place).reshape(-1, 3)])[order],
            "face_starts": new_starts.astype(np.int32),
            "face_corners": flat.astype(np.int32),
        }
        self._follow_uvs(arrays, corner_old, take)
        old = self.character.arrays
        if "colours" in old:
            arrays["colours"] = _mixed(mix, old["colours"].astype(float)).round().astype(np.uint8)
        if "face_groups" in old:
            arrays["face_groups"] = old["face_groups"][face_like][face_order]
        self._follow_lines(arrays, number)
        self._follow_skin(arrays, mix)
        self._follow_shapes(arrays, mix)
        self._follow_regions(arrays, mix)
        parts = self._parts(point_part[order], face_part[face_order])
        return self.character.with_(parts=parts, arrays=arrays)

    def _mix(self, order: np.ndarray, total: int) -> sparse.csr_matrix:
        """(new, old) shares: an old point is itself, a new one its mean."""
        rows, cols, vals = [np.arange(self.count)], [np.arange(self.count)], [np.ones(self.count)]
        for k, mean in enumerate(self._means):
            rows.append(np.full(len(mean), self.count + k))
            cols.append(np.fromiter(mean.keys(), np.int64))
            vals.append(np.fromiter(mean.values(), float))
        full = sparse.csr_matrix(
            (np.concatenate(vals), (np.concatenate(rows), np.concatenate(cols))), (total, self.count)
        )
        return full[order]

    def _follow_uvs(self, arrays: dict[str, np.ndarray | None], corner_old: np.ndarray, take: np.ndarray) -> None:
        uvs = self.character.arrays.get("uvs")
        if uvs is None:
            return
        made: list[np.ndarray] = [uvs[corner_old]]
        for points, given in zip(self._faces, self._face_uvs, strict=True):
            if given is None:
                made.append(np.zeros((len(points), 2), np.float32))
            else:
                made.append(np.array([sum(w * uvs[c].astype(float) for c, w in m.items()) for m in given], np.float32))
        arrays["uvs"] = np.concatenate(made)[take]

    def _follow_lines(self, arrays: dict[str, np.ndarray | None], number: np.ndarray) -> None:
        if not len(self.line_points):
            if "line_starts" in self.character.arrays:  # the last line went
                arrays["line_starts"] = arrays["line_points"] = None
            return
        order = np.argsort(self.line_part, kind="stable")
        new, take = _rows_taken(self.character.arrays["line_starts"].astype(np.int64), order)
        arrays["line_starts"] = new.astype(np.int32)
        arrays["line_points"] = number[self.line_points[take]].astype(np.int32)
        self.line_part = self.line_part[order]

    def _follow_skin(self, arrays: dict[str, np.ndarray | None], mix: sparse.csr_matrix) -> None:
        skin, old = self.character.skin, self.character.arrays
        if skin is None:
            return
        joints, weights = old["skin/joints"], old["skin/weights"]
        single = np.diff(mix.indptr) == 1
        source = mix.indices[mix.indptr[:-1]]
        new_joints, new_weights = joints[source].copy(), weights[source].copy()
        mixed_rows = np.flatnonzero(~single)
        if len(mixed_rows):
            n, k = joints.shape
            table = sparse.csr_matrix(
                (weights.ravel().astype(float), (np.repeat(np.arange(n), k), joints.ravel().astype(np.int64))),
                (n, len(skin.joints)),
            )
            dense = (mix[mixed_rows] @ table).toarray()
            top = np.argsort(-dense, axis=1, kind="stable")[:, :k]
            held = np.take_along_axis(dense, top, 1)
            width = held.shape[1]
            new_joints[mixed_rows, :width] = top
            new_weights[mixed_rows, :width] = held / np.maximum(held.sum(1, keepdims=True), 1e-12)
            new_weights[mixed_rows, width:] = 0.0
        arrays["skin/joints"], arrays["skin/weights"] = new_joints, new_weights
        if "skin/mix" in old:
            arrays["skin/mix"] = (mix @ old["skin/mix"].astype(float)).astype(np.float32)

    def _follow_shapes(self, arrays: dict[str, np.ndarray | None], mix: sparse.csr_matrix) -> None:
        for shape in self.character.shapes:
            index = self.character.arrays[f"shape/{shape.name}/points"]
            whole = np.zeros((self.count, 3))
            whole[index] = self.character.arrays[f"shape/{shape.name}/moves"]
            moved = _mixed(mix, whole)
            hit = np.flatnonzero(np.abs(moved).max(1) > 0)
            arrays[f"shape/{shape.name}/points"] = hit.astype(np.uint32)
            arrays[f"shape/{shape.name}/moves"] = moved[hit].astype(np.float32)

    def _follow_regions(self, arrays: dict[str, np.ndarray | None], mix: sparse.csr_matrix) -> None:
        for region in self.character.regions:
            index = self.character.arrays[f"region/{region.name}/points"]
            whole = np.zeros(self.count)
            whole[index] = self.character.arrays[f"region/{region.name}/amounts"]
            held = _mixed(mix, whole).clip(0.0, 1.0)
            hit = np.flatnonzero(held > 0)
            arrays[f"region/{region.name}/points"] = hit.astype(np.uint32)
            arrays[f"region/{region.name}/amounts"] = held[hit].astype(np.float32)

    def _parts(self, point_part: np.ndarray, face_part: np.ndarray) -> tuple[Part, ...]:
        out = []
        for i, part in enumerate(self.parts):
            points = _run(point_part, i)
            if points[0] == points[1]:
                continue
            lines = _run(self.line_part, i) if len(self.line_part) else (0, 0)
            out.append(part.model_copy(update={"points": points, "faces": _run(face_part, i), "lines": lines}))
        if not out:
            raise StepRefused("Nothing of the mesh would be left.", self.character.name, "Choose less.")
        return tuple(out)


def _rows_taken(starts: np.ndarray, order: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Compressed rows in another order: their new starts, and the entries in the order they are taken in."""
    counts = np.diff(starts)[order]
    new = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return new, np.repeat(starts[:-1][order], counts) + np.arange(new[-1]) - np.repeat(new[:-1], counts)


def _run(sorted_parts: np.ndarray, i: int) -> tuple[int, int]:
    return int(np.searchsorted(sorted_parts, i, "left")), int(np.searchsorted(sorted_parts, i, "right"))


def _mixed(mix: sparse.csr_matrix, values: np.ndarray) -> np.ndarray:
    return np.asarray(mix @ values)


def _without_repeats(
    corners: np.ndarray, face: np.ndarray, old: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Corners that repeat the one before them round their face are dropped, and faces left with fewer than three."""
    while len(corners):
        first = np.concatenate([[True], face[1:] != face[:-1]])
        begin = np.flatnonzero(first)
        end = np.concatenate([begin[1:], [len(face)]]) - 1
        before = np.concatenate([[0], corners[:-1]])
        before[begin] = corners[end]
        counts = np.repeat(end - begin + 1, end - begin + 1)
        keep = (corners != before) & (counts > 2)
        if keep.all():
            break
        corners, face, old = corners[keep], face[keep], old[keep]
    return corners, face, old


def mean_of(points: Iterable[int]) -> Mean:
    """Equal shares of some points."""
    found = list(points)
    out: Mean = {}
    for p in found:
        out[p] = out.get(p, 0.0) + 1.0 / len(found)
    return out
