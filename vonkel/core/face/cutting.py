"""Cutting a mouth that is only sculpted: through the faces along a smooth line from corner to corner, and a bag behind it."""

from __future__ import annotations

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.loops import Rows, with_mouth_bag
from ..geometry.rays import first_hits
from ..geometry.surgery import Knife, Mean
from ..geometry.topology import Topology, labels_of, topology_of
from .estimate import Estimate

LIT = 0.1  # skin that sees less of the sky isn't on the outside of the face
AHEAD = 0.35  # how far behind the line's own depth faces may lie that are still cut, shares of the head's size
RINGS, THICK, BAG_HIGH = (
    6,
    0.2,
    0.09,
)  # rows of the bag; how far in lips are thick, of it; half its height, shares of the head's size
APART = 0.0015  # of the head's size
SNAP = 0.08  # of an edge: the line keeps so far off the ends of edges that it crosses, so that no slivers are left


def mouth_line(face: Estimate) -> tuple[np.ndarray, float, float]:
    """The height of the line as a polynomial in |x| (its coefficients, highest power first), and how far it reaches to the left and to
    the right, in the head's frame.  Raises StepRefused where the marks don't say."""
    spots = face.spots
    wanted = ("mouth_upper", "mouth_lower", "mouth_corner_L", "mouth_corner_R")
    if any(n not in spots for n in wanted):
        raise StepRefused(
            "The marks of the mouth aren't all there.", "", "Put the corners and both lips on the face first."
        )
    left, right = spots["mouth_corner_L"].place, spots["mouth_corner_R"].place
    middle = 0.5 * (spots["mouth_upper"].place + spots["mouth_lower"].place)
    x, y, w = [0.0, abs(left[0]), abs(right[0])], [middle[1], left[1], right[1]], [8.0, 8.0, 8.0]
    if face.mouth.line is not None and face.mouth.kind == "sculpted":
        p = face.head.p[face.mouth.line]
        ends = p[(np.abs(p[:, 0]) > 0.05 * left[0]) & (np.abs(p[:, 0]) < 0.95 * left[0])]
        x, y, w = [*x, *np.abs(ends[:, 0])], [*y, *ends[:, 1]], [*w, *np.ones(len(ends))]
    # Even in x and flat on the middle: what is drawn by hand is seldom smoother than a parabola with a bend.
    powers = np.stack([np.array(x) ** 4, np.array(x) ** 2, np.ones(len(x))], 1)
    scale = max(abs(left[0]), 1e-9) ** np.array([4, 2, 0])
    weight = np.sqrt(np.array(w))[:, None]
    fit = np.linalg.lstsq(powers / scale * weight, np.array(y) * weight[:, 0], rcond=None)[0] / scale
    return fit, float(left[0]), float(-right[0])


def with_cut_mouth(character: Character, face: Estimate, depth: float = 0.0) -> Character:
    """The character whose mouth opens: faces cut along the line of the mouth, and a bag `depth` metres deep behind it (0: a third
    of the head).  Raises StepRefused where the mouth opens already or the line can't be followed."""
    if face.mouth.kind == "open" and face.mouth.lower is not None:
        raise StepRefused("The mouth opens already.", character.name, "Move its marks if it is elsewhere.")
    fit, left, right = mouth_line(face)
    head, topo = face.head, topology_of(character)
    p = head.own(character.points)
    above = p[:, 1] - (fit[0] * p[:, 0] ** 4 + fit[1] * p[:, 0] ** 2 + fit[2])
    above = np.where(np.abs(above) < 1e-9, 1e-9, above)
    sides = above > 0
    corners, starts, sizes, of = topo.corners, topo.starts, topo.sizes, topo.corner_face
    mean = np.stack([np.bincount(of, p[corners, k]) / sizes for k in range(3)], 1)
    mixed = np.bincount(of, sides[corners]) % sizes != 0
    front = np.bincount(of, (head.light > LIT)[head.number[corners]]) == sizes
    skin = np.bincount(of, head.surface[head.number[corners]]) == sizes
    lip = 0.5 * (face.spots["mouth_upper"].place[2] + face.spots["mouth_lower"].place[2])
    corner_z = min(face.spots[n].place[2] for n in ("mouth_corner_L", "mouth_corner_R"))
    strip = mixed & skin & front & (mean[:, 0] < left) & (mean[:, 0] > -right)
    strip &= (mean[:, 2] > corner_z - 0.1 * head.size) & (mean[:, 2] > lip - AHEAD * 3 * head.size)
    strip = _one_piece(character, np.flatnonzero(strip), topo, mean)
    knife = _Cut(character, corners, starts, above, strip, APART * head.size * head.turn[1])
    made, rim = knife.done()
    return with_mouth_bag(made, rim, 0.0, RINGS, rows_at=_bag(face, fit, depth or head.size / 3.0, max(left, right)))


def _bag(face: Estimate, fit: np.ndarray, depth: float, wide: float) -> Rows:
    """Rows of a bag behind lips that lie on each other: back into the head, apart behind the lips, narrower at the end, and nowhere
    nearer to the skin than half the flesh there."""
    head = face.head

    def rows(rim: np.ndarray, t: float) -> np.ndarray:
        p = head.own(rim)
        above = p[:, 1] - (fit[0] * p[:, 0] ** 4 + fit[1] * p[:, 0] ** 2 + fit[2])
        share = np.clip(np.abs(p[:, 0]) / wide, 0, 1)
        way = np.where(np.abs(above) < 0.2 * APART * head.size, 0.0, np.sign(above))
        back = depth * np.sin(0.5 * np.pi * t) * (1 - 0.55 * share**2)
        out = p - back[:, None] * np.array([0.0, 0.0, 1.0])
        out[:, 0] *= 1 - 0.30 * t
        if t > THICK:  # the lips themselves lie on each other
            high = BAG_HIGH * head.size * np.sqrt(1 - share**2) * np.sin(np.pi * (0.15 + 0.75 * t))
            ways = np.stack([0 * way, np.where(way == 0, 1.0, way), 0 * way], 1)
            far, _ = first_hits(head.p, head.tri, out, ways, 1e-6 * head.size)
            high = np.minimum(high, 0.5 * np.where(np.isfinite(far), far, 0.0))
            out[:, 1] += way * high
        return head.back(out)

    return rows


def _one_piece(character: Character, faces: np.ndarray, topo: Topology, mean: np.ndarray) -> np.ndarray:
    """Of faces the connected ones that cross the middle."""
    if not len(faces):
        raise StepRefused(
            "The line of the mouth meets no face.", character.name, "Put the marks of the mouth on the skin."
        )
    row = np.full(len(topo.sizes), -1)
    row[faces] = np.arange(len(faces))
    mine = np.flatnonzero(row[topo.corner_face] >= 0)
    at = mine[np.argsort(topo.corner_edge[mine], kind="stable")]  # corners whose faces share an edge follow each other
    beside = topo.corner_edge[at[1:]] == topo.corner_edge[at[:-1]]
    of = row[topo.corner_face[at]]
    label = labels_of(np.stack([of[:-1][beside], of[1:][beside]], 1), len(faces))
    middle = label[int(np.argmin(np.abs(mean[faces, 0]) - 1e-3 * mean[faces, 2]))]
    return np.asarray(faces[label == middle])


class _Cut:
    """Faces of a strip parted where `above` (n,) changes its sign."""

    def __init__(
        self, character: Character, corners: np.ndarray, starts: np.ndarray, above: np.ndarray, strip: np.ndarray,
        apart: np.ndarray,
    ) -> None:  # fmt: skip
        """apart (3,): how far the upper lip stands from the line, and the lower one the other way, metres."""
        self.apart = apart
        self.character, self.corners, self.starts, self.above = character, corners, starts, above
        self.strip = {int(f) for f in strip}
        self.knife = Knife(character)
        self.uvs = "uvs" in character.arrays
        self.upper: dict[tuple[int, int], int] = {}
        self.lower: dict[tuple[int, int], int] = {}
        self.faces_at: dict[tuple[int, int], list[int]] = {}
        for f in range(len(starts) - 1):
            for a, b, _, _ in self._edges(f):
                self.faces_at.setdefault((min(a, b), max(a, b)), []).append(f)

    def _edges(self, f: int) -> list[tuple[int, int, int, int]]:
        """Points a, b of each edge of a face, and their corners."""
        c = range(int(self.starts[f]), int(self.starts[f + 1]))
        rolled = [*c[1:], c[0]]
        return [(int(self.corners[i]), int(self.corners[j]), i, j) for i, j in zip(c, rolled, strict=True)]

    def _crossed(self, a: int, b: int) -> bool:
        return bool((self.above[a] > 0) != (self.above[b] > 0))

    def _share(self, a: int, b: int) -> float:
        """How far along from a to b the line crosses."""
        t = float(self.above[a] / (self.above[a] - self.above[b]))
        return min(max(t, SNAP), 1 - SNAP)

    def _points(self) -> None:
        """New points on crossed edges: two where both faces are cut, one at an end of the line."""
        for (a, b), faces in self.faces_at.items():
            cut = sum(f in self.strip for f in faces)
            if not cut or not self._crossed(a, b):
                continue
            t = self._share(a, b)
            mean: Mean = {a: 1 - t, b: t}
            at = (1 - t) * self.knife.place[a] + t * self.knife.place[b]
            parted = cut == 2 and len(faces) == 2
            # Lips that lie in one place would count as one: they stand a hair apart.
            self.upper[(a, b)] = self.knife.add_point(mean, at + (self.apart if parted else 0.0))
            self.lower[(a, b)] = self.knife.add_point(mean, at - self.apart) if parted else self.upper[(a, b)]

    def done(self) -> tuple[Character, int]:
        """The character cut, and a point of the rim."""
        self._points()
        ends = [e for e in self.upper if self.upper[e] == self.lower[e]]
        if len(ends) != 2 or len(self.upper) < 4:
            raise StepRefused(
                f"The line of the mouth breaks up: it has {len(ends)} ends.", self.character.name,
                "Move the corners of the mouth so that the line between them runs over plain skin.",
            )  # fmt: skip
        for f in self.strip:
            self._part(f)
        for a, b in ends:  # the face beyond an end takes the new point into its outline
            for f in self.faces_at[(a, b)]:
                if f not in self.strip:
                    self._take_in(f)
        inner = next(e for e in self.upper if self.upper[e] != self.lower[e])
        place = self.knife.place
        t = self._share(*inner)
        at = (1 - t) * place[inner[0]] + t * place[inner[1]]
        made = self.knife.finish()
        return made, int(np.argmin(np.linalg.norm(made.points - at, axis=1)))

    def _walk(self, f: int) -> list[tuple[int, int, tuple[int, int] | None, Mean]]:
        """Round a face: (its point, or −1; side; the crossed edge of a new point; where it lies in the texture)."""
        out: list[tuple[int, int, tuple[int, int] | None, Mean]] = []
        for a, b, i, j in self._edges(f):
            out.append((a, 1 if self.above[a] > 0 else -1, None, {i: 1.0}))
            key = (min(a, b), max(a, b))
            if key in self.upper:
                t = self._share(*key) if key == (a, b) else 1 - self._share(*key)
                out.append((-1, 0, key, {i: 1 - t, j: t}))
        return out

    def _part(self, f: int) -> None:
        walk = self._walk(f)
        if sum(key is not None for _, _, key, _ in walk) != 2:
            raise StepRefused(
                "The line of the mouth crosses a face twice.", self.character.name,
                "Move the marks of the mouth a little, or make the mesh finer there.",
            )  # fmt: skip
        self.knife.take_face(f)
        for side, new in ((1, self.upper), (-1, self.lower)):
            kept = [
                (new[key] if key is not None else point, uv)
                for point, own, key, uv in walk
                if key is not None or own == side
            ]
            if len(kept) > 2:
                self.knife.add_face([q for q, _ in kept], f, [uv for _, uv in kept] if self.uvs else None)

    def _take_in(self, f: int) -> None:
        walk = self._walk(f)
        self.knife.take_face(f)
        points = [self.upper[key] if key is not None else point for point, _, key, _ in walk]
        self.knife.add_face(points, f, [uv for _, _, _, uv in walk] if self.uvs else None)
