"""What stands on the middle of a face: nose, lips and chin, and the corners of the mouth on either side."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from ..geometry.measures import lengths_along, section
from .eyes import Eye
from .head import Head, graph

DARK = 0.06  # skin that sees less of the sky lies in a mouth or behind lids
MouthKind = Literal["open", "sculpted", "none"]


@dataclass(frozen=True)
class Spot:
    """A place on a face (3,), how sure it is (0 to 1), and how it was found."""

    place: np.ndarray
    sure: float
    how: str


@dataclass(eq=False)
class Mouth:
    """A mouth: whether it opens, is only sculpted, or isn't there.

    upper, lower (n,): rows of the pieces before the corners, of a mouth that opens; line: rows along a sculpted one, left half.
    """

    kind: MouthKind = "none"
    spots: dict[str, Spot] = field(default_factory=dict)
    upper: np.ndarray | None = None
    lower: np.ndarray | None = None
    line: np.ndarray | None = None


def front_peaks(head: Head, ok: np.ndarray) -> list[tuple[int, int, float, int]]:
    """Peaks of z among `ok` (n,) and the saddles where they join another, by union and find from front to back:
    (peak, saddle, its height over the saddle, the peak it joins), highest first.

    Where a mouth is modelled the lower jaw's peak can join the nose's only at a corner of the mouth, however tightly it is shut.
    """
    z = head.p[:, 2]
    order = np.flatnonzero(ok)[np.argsort(-z[ok])]
    e = head.edges[ok[head.edges].all(1)]
    g = graph(e, np.ones(len(e)), len(z))
    root = np.full(len(z), -1)
    out = []

    def find(i: int) -> int:
        while root[i] != i:
            root[i] = root[root[i]]
            i = root[i]
        return i

    for i in order:
        others = {find(j) for j in g.indices[g.indptr[i] : g.indptr[i + 1]] if root[j] >= 0}
        if not others:
            root[i] = i
            continue
        top = max(others, key=lambda k: z[k])
        root[i] = top
        for k in others - {top}:
            root[k] = top
            out.append((int(k), int(i), float(z[k] - z[i]), int(top)))
    return sorted(out, key=lambda x: -x[2])


def _middle_lines(head: Head) -> list[np.ndarray]:
    """Sections of the head's skin by its middle plane."""
    return section(head.p, head.tri.astype(np.int32), np.array([1.3e-5 * head.size, 0, 0]), np.array([1.0, 0, 0]))


def outline(head: Head) -> np.ndarray:
    """(m, 3) the section of the head's skin by its middle plane, from the crown over the face and down."""
    lines = _middle_lines(head)
    if not lines:
        return np.empty((0, 3))
    line = max(lines, key=lambda q: np.linalg.norm(np.diff(q, axis=0), axis=1).sum())
    if np.linalg.norm(line[0] - line[-1]) < 1e-9:
        line = line[:-1]
    line = np.roll(line, -int(np.argmax(line[:, 1] - 1e-3 * np.abs(line[:, 2]))), axis=0)
    tip = int(np.argmax(line[:, 2]))
    away = line[min(tip + 3, len(line) - 1), 1] - line[max(tip - 3, 0), 1]
    return line if away < 0 else np.roll(line[::-1], 1, axis=0)


def find_middle(head: Head, eyes: list[Eye]) -> Mouth:
    """Nose tip, lips, corners of the mouth and chin, as far as they are there."""
    size, ok = head.size, head.surface
    mid = ok & (np.abs(head.p[:, 0]) < 0.03 * size)
    mouth = Mouth()
    if not mid.any():
        return mouth
    nose = int(np.flatnonzero(mid)[np.argmax(head.p[mid, 2])])
    tip = head.p[nose] * [0, 1, 1]
    jaws = {sign: _lower_jaw(head, tip, sign) for sign in (1, -1)}
    if any(jaws.values()):
        _open_mouth(head, mouth, nose, jaws)
    else:
        _sculpted_mouth(head, mouth, tip, eyes)
    nose_spot = _nose(head, mouth, tip)
    if nose_spot is not None:
        mouth.spots["nose_tip"] = nose_spot
    return mouth


def _nose(head: Head, mouth: Mouth, tip: np.ndarray) -> Spot | None:
    """The foremost place is a nose where it stands off the lips; a mouth may be foremost itself."""
    lip = mouth.spots.get("mouth_upper")
    if lip is None or mouth.kind != "open":
        return Spot(tip, 0.7, "foremost on the middle")
    apart = float(np.linalg.norm(tip - lip.place)) / head.size
    return Spot(tip, 0.9, "foremost on the middle") if apart > NOSE_OFF else None


NOSE_OFF = 0.10  # how far from the upper lip the foremost place is a nose, shares of the size


Jaw = tuple[int, int, float, int]


def _lower_jaw(head: Head, tip: np.ndarray, sign: int) -> Jaw | None:
    """Of one side: the lower jaw's peak, where it joins the upper face, by how much it stands out, and the upper face's peak.

    The foremost place of a face may be the lower lip: then the upper face is what joins it.
    """
    size, p = head.size, head.p
    ok = head.surface & (sign * p[:, 0] > -0.03 * size)
    found = []
    for k, s, high, top in front_peaks(head, ok & (head.light > DARK)):  # no way leads round a corner inside the mouth
        lower = p[k, 1] < tip[1] - 0.03 * size
        upper = p[k, 1] > tip[1] + 0.02 * size and p[top, 1] < tip[1] + 0.02 * size
        suits = (
            high > 0.02 * size and abs(p[k, 0]) < 0.12 * size and (lower or upper)
            and p[s, 2] > p[k, 2] - 0.8 * size and sign * p[s, 0] > 0.05 * size
        )  # fmt: skip
        if not suits:
            continue
        a, b = p[k], p[s]
        hidden = (
            ok & (head.light < DARK) & (np.abs(p[:, 0]) < abs(b[0])) & (np.abs(p[:, 1] - b[1]) < 0.25 * size)
            & (p[:, 2] < a[2]) & (p[:, 2] > b[2] - 0.3 * size)
        )  # fmt: skip
        if hidden.sum() >= 4 or high > 0.25 * size:  # skin inside that sees no sky, or it gapes
            found.append((k, s, high, top) if lower else (top, s, high, k))
    return max(found, key=lambda x: x[2] - 0.1 * abs(p[x[0], 1] - tip[1])) if found else None


def _open_mouth(head: Head, mouth: Mouth, nose: int, jaws: dict[int, Jaw | None]) -> None:
    size, p, ok, m = head.size, head.p, head.surface, mouth.spots
    tip = p[nose]
    mouth.kind = "open"
    for sign, side in ((1, "L"), (-1, "R")):
        jaw = jaws[sign]
        if jaw is not None:
            sure = float(np.clip(0.6 + jaw[2] / size, 0.6, 0.95))
            m[f"mouth_corner_{side}"] = Spot(p[jaw[1]], sure, "where the lower jaw joins the upper face")
    whole = [j for j in jaws.values() if j is not None]
    k, nose = whole[0][0], whole[0][3] if p[nose, 1] <= p[whole[0][0], 1] else nose
    back = max(p[j[1], 2] for j in whole)
    ahead = min(
        p[k, 2], max(tip[2], back + 0.02 * size)
    )  # what stands far before the lips, such as biting parts, sets no measure
    front = ok & (p[:, 2] > back + 0.15 * (ahead - back))
    label = np.zeros(len(p), int)
    for number, rows in enumerate(head.pieces(front), 1):
        label[rows] = number
    top = whole[0][3]
    if label[nose] == label[k] != label[top]:  # the foremost place is the lower lip after all
        nose, tip = top, p[top]
    mouth.upper, mouth.lower = front & (label == label[nose]), front & (label == label[k])
    alike = label[nose] == label[k]  # the lips are one before the corners after all
    if alike or not (mouth.upper & head.skin).any() or not (mouth.lower & head.skin).any():
        mouth.upper = mouth.lower = None
    line = outline(head)
    lips = _lips(head, line, tip, np.mean([p[j[1]] for j in whole], axis=0))
    if lips is None:  # it gapes: the ends of both pieces
        wide = np.abs(p[:, 0]) < 0.05 * size
        q = p[front & (label == label[nose]) & wide & (p[:, 1] < tip[1])]
        upper = q[np.argmax(-q[:, 1] + 0.35 * q[:, 2])] if len(q) else tip
        q = p[front & (label == label[k]) & wide & (p[:, 2] > 0.5 * (back + p[k, 2]))]
        lower = q[np.argmax(q[:, 1] + 0.35 * q[:, 2])] if len(q) else p[k]
        m["mouth_upper"] = Spot(upper * [0, 1, 1], 0.42, "lower end of the upper piece")
        m["mouth_lower"] = Spot(lower * [0, 1, 1], 0.42, "upper end of the lower piece")
    else:
        m["mouth_upper"] = Spot(lips[0] * [0, 1, 1], 0.9, "where the outline goes into the mouth")
        m["mouth_lower"] = Spot(lips[1] * [0, 1, 1], 0.9, "where the outline comes out of the mouth")
    m["chin"] = _chin(head, m["mouth_lower"].place)


def _lips(head: Head, line: np.ndarray, tip: np.ndarray, corner: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    """Both ends of the longest dark run of the outline below the nose, where that is the mouth."""
    if not len(line):
        return None
    rows = np.flatnonzero(head.surface)
    dark = head.light[rows[cKDTree(head.p[rows]).query(line)[1]]] < DARK
    dark &= np.arange(len(line)) > int(np.argmin(np.linalg.norm(line - tip, axis=1)))
    edge = np.flatnonzero(np.diff(np.r_[0, dark.astype(int), 0]))
    starts, ends = edge[::2], edge[1::2]
    if not len(starts):
        return None
    long = [float(np.linalg.norm(np.diff(line[a:b], axis=0), axis=1).sum()) for a, b in zip(starts, ends, strict=True)]
    k = int(np.argmax(long))
    if long[k] < 0.12 * head.size or starts[k] < 1 or ends[k] >= len(line):
        return None
    a, b = line[starts[k] - 1], line[ends[k]]
    shut = np.linalg.norm(a - b) < 0.12 * head.size
    there = min(a[2], b[2]) > corner[2] - 0.05 * head.size and abs(a[1] - corner[1]) < 0.35 * head.size
    return (a, b) if shut and there else None


def _finely(line: np.ndarray, step: float) -> np.ndarray:
    """A line's points (n, 3) and more between them, none farther apart than `step`."""
    s = lengths_along(line)
    if s[-1] <= 0:
        return line
    u = np.unique(np.r_[s, np.linspace(0.0, s[-1], int(s[-1] / step) + 2)])
    return np.stack([np.interp(u, s, line[:, k]) for k in range(3)], 1)


CHIN_BELOW = 0.1  # a chin that lies so far under the lips, a share of the size, is surely one
CHIN_REACH = 0.42  # how far down the outline a chin is looked for, shares of the size
FORWARD_DOWN = np.array([0.0, -1.0, 0.7])
CHIN_AHEAD = 0.06  # a chin stands no farther before the lower lip: what does is a nose that hangs over it
CHIN_BACK = 0.08  # the outline below the lips has turned to the throat once it runs back so far, shares of the size


def _chin(head: Head, lip: np.ndarray) -> Spot:
    """Down the front of the middle from the lower lip: the lowest and foremost place before it turns back to the throat."""
    lines = _middle_lines(head)
    if not lines:
        return Spot(lip, 0.1, "no outline")
    step = 0.012 * head.size
    q = np.concatenate([_finely(x, 0.5 * step) for x in lines])
    best = _lowest_foremost(q, lip, head.size, CHIN_AHEAD)
    stands = lip[1] - best[1] > CHIN_BELOW * head.size  # off the lips: one that hardly does may be the lip itself
    if not stands and best[2] > lip[2]:  # the lip's own front
        best = _lowest_foremost(q, lip, head.size, 0.0)
    return Spot(best * [0, 1, 1], 0.62 if stands else 0.45, "lowest and foremost below the lips")


def _lowest_foremost(q: np.ndarray, lip: np.ndarray, size: float, reach: float) -> np.ndarray:
    """Of an outline's points (n, 3) no farther before the lip than a share `reach` of the size, down to the throat."""
    step = 0.012 * size
    best, most, ahead = lip, -np.inf, -np.inf
    for k in range(int(CHIN_REACH * size / step)):
        top = lip[1] - k * step
        level = q[(q[:, 1] <= top) & (q[:, 1] > top - step) & (q[:, 2] < lip[2] + reach * size)]
        if not len(level):
            continue
        front = level[np.argmax(level[:, 2])]
        ahead = max(ahead, float(front[2]))
        value = float(front @ FORWARD_DOWN)
        if front[2] < ahead - CHIN_BACK * size:
            break
        if value > most:
            best, most = front, value
        elif k > 5 and value < most - 0.02 * size:
            break  # past the chin
    return np.asarray(best)


def _sculpted_mouth(head: Head, mouth: Mouth, tip: np.ndarray, eyes: list[Eye]) -> None:
    """A mouth that can't open: the chin by the outline, the lips' line as the longest valley between nose and chin."""
    size, line = head.size, outline(head)
    if not len(line):
        return
    keep, least = [], line[int(np.argmax(line[:, 2])), 2]
    for q in line[int(np.argmax(line[:, 2])) :]:
        if q[2] > least + 0.05 * size or q[2] < tip[2] - 0.9 * size or q[1] < tip[1] - 1.2 * size:
            break
        least = min(least, q[2])
        keep.append(q)
    run = np.array(keep)
    if len(run) < 3:
        return
    value = run @ [0, -1, 1.0]
    peaks = [
        i for i in range(1, len(run) - 1)
        if value[i] >= value[max(0, i - 6) : i + 7].max() and run[i, 1] < tip[1] - 0.12 * size
    ]  # fmt: skip
    chin = run[max(peaks, key=lambda i: value[i]) if peaks else int(np.argmax(value))]
    mouth.spots["chin"] = Spot(chin * [0, 1, 1], 0.45 if peaks else 0.25, "where the outline turns back to the throat")
    _valley(head, mouth, tip, chin, eyes)


SMOOTH = 1.6  # what a step along plain skin costs; along a valley it costs less than its length
LEAST_VALLEY = 0.06  # what a valley must save, a share of the size, to be called a mouth


def _valley(head: Head, mouth: Mouth, tip: np.ndarray, chin: np.ndarray, eyes: list[Eye]) -> None:
    size, p, b = head.size, head.p, head.bend
    span = tip[1] - chin[1]
    eye_y = float(np.mean([e.centre[1] for e in eyes])) if eyes else head.crown[1] - 0.4 * size
    area = (
        head.surface & (p[:, 0] > -0.02 * size) & (p[:, 1] > chin[1] - 0.02 * size)
        & (p[:, 1] < max(tip[1], 0.3 * tip[1] + 0.7 * eye_y)) & (p[:, 2] > tip[2] - 1.1 * size) & (head.light > 0.03)
    )  # fmt: skip
    seeds = np.flatnonzero(
        area & (np.abs(p[:, 0]) < 0.03 * size) & (p[:, 1] > chin[1] + 0.02 * span) & (p[:, 1] < tip[1] - 0.15 * span)
        & (p[:, 2] > chin[2] - 0.3 * size)
    )  # fmt: skip
    if not len(seeds):
        return
    e = head.edges[area[head.edges].all(1)]
    length = np.linalg.norm(p[e[:, 0]] - p[e[:, 1]], axis=1)
    steep = np.abs(p[e[:, 0], 1] - p[e[:, 1], 1]) / np.maximum(length, 1e-12)
    bent = 0.5 * (b[e[:, 0]] + b[e[:, 1]])
    cost = length * np.clip(SMOOTH - 0.45 * np.clip(-bent, -1, 4), 0.05, 2.5) * (1 + 0.8 * steep)
    costs = graph(e, cost, len(p))
    best: tuple[float, int, int, np.ndarray | None] = (-np.inf, -1, -1, None)
    for s in seeds[np.argsort(b[seeds])][:24]:
        d, before = dijkstra(costs, indices=int(s), return_predecessors=True, limit=1.2 * size)
        start = 0.08 * size * np.clip(-b[s], -2, 4) / 4 - 0.15 * abs(p[s, 1] - (tip[1] - 0.55 * span))
        gain = np.where(
            np.isfinite(d), np.minimum(np.linalg.norm(p - p[s], axis=1), 0.9 * size) - d, -np.inf
        ) + start  # fmt: skip
        gain[p[:, 0] < 0.04 * size] = -np.inf
        k = int(np.argmax(gain))
        if gain[k] > best[0]:
            best = (float(gain[k]), int(s), k, before)
    gain, s, k, before = best
    if before is None or gain < LEAST_VALLEY * size:
        return
    mouth.kind = "sculpted"
    place = p[s] * [0, 1, 1]
    sure = float(np.clip(0.2 + gain / size, 0.1, 0.45))  # lines in skin are many: never called sure
    mouth.spots["mouth_upper"] = mouth.spots["mouth_lower"] = Spot(place, sure, "start of the longest valley")
    path, at = [], k
    while at >= 0 and at != s:
        path.append(at)
        at = int(before[at])
    mouth.line = np.array([s, *path[::-1]])
    mouth.spots["mouth_corner_L"] = Spot(p[k], 0.8 * sure, "end of the longest valley")
    mouth.spots["mouth_corner_R"] = Spot(p[k] * [-1, 1, 1], 0.8 * sure, "as on the left")
