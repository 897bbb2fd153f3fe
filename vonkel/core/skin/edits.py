"""Weights of chosen points, changed otherwise than by a brush.  All keep locked holders to the bit and rows whole (`amounts`)."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from ..character import Character, Skin, opposite_name
from ..errors import BadParameters, NotFound, StepRefused
from ..geometry.choosing import grown
from ..geometry.health import mirror_partners
from ..geometry.measures import distance_to_segments
from ..geometry.walking import Ground, ground_of
from . import amounts
from .bones import bones_of
from .strays import strays_of

RIM, SOFTENED = 3, 6  # rings round what a joint was taken off that are evened out, and how often


class Rows:
    """A skin's rows while they are changed: `index` and `weights` (n, k) are copies, `names` may grow."""

    def __init__(self, character: Character) -> None:
        """Raises StepRefused without a skin."""
        if character.skin is None:
            raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
        self.character, self.skin, self.ground = character, character.skin, ground_of(character)
        self.index = character.arrays["skin/joints"].copy()
        self.weights = character.arrays["skin/weights"].copy()
        self.names = list(self.skin.joints)
        self.most = min(self.skin.influences, self.weights.shape[1])

    @property
    def locked(self) -> np.ndarray:
        """(j,) bool."""
        return np.isin(self.names, self.skin.locked)

    def number(self, joint: str) -> int:
        """A joint's number, entered where it held nothing yet.  Raises NotFound and StepRefused: a helper, a locked one."""
        if not self.character.joint(joint).deforms:
            raise StepRefused(f"{joint} is a helper: it holds no skin.", joint, "Choose one that deforms.")
        if joint in self.skin.locked:
            raise StepRefused(f"{joint} is locked.", joint, "Unlock it, or choose another joint.")
        return self.entered(joint)

    def entered(self, joint: str) -> int:
        """A joint's number, entered where it held nothing yet, whatever is to be said against it."""
        if joint not in self.names:
            self.names.append(joint)
        return self.names.index(joint)

    def of(self, joint: str) -> np.ndarray:
        """(n,) float64: what a joint holds."""
        if joint not in self.names:
            return np.zeros(len(self.index))
        return np.asarray(np.where(self.index == self.names.index(joint), self.weights, 0).sum(1), float)

    def put(self, points: np.ndarray, wanted: Mapping[str, np.ndarray]) -> None:
        """Let joints hold points (p,) by so much (p,) each; the other holders share the rest."""
        numbers = np.array([self.number(n) for n in wanted], np.int64)
        table = np.stack([np.broadcast_to(np.clip(w, 0.0, 1.0), len(points)) for w in wanted.values()], 1).astype(float)
        heirs = np.full(len(points), -1, np.int64)
        if table.sum(1).min(initial=1.0) < 1.0 - 1e-9:
            heirs = nearest_others(self.ground, self.index, self.weights, numbers, self.locked)[self.ground.of[points]]
        amounts.put(self.index, self.weights, points.astype(np.int64), numbers, table, self.locked, heirs, self.most)

    def result(self) -> Character:
        skin: Skin = self.skin
        if len(self.names) > len(skin.joints):
            skin = skin.model_copy(update={"joints": tuple(self.names)})
        return self.character.with_(skin=skin, arrays={"skin/joints": self.index, "skin/weights": self.weights})


def nearest_others(
    ground: Ground, index: np.ndarray, weights: np.ndarray, joints: np.ndarray, locked: np.ndarray
) -> np.ndarray:
    """(m,) for each joined point the strongest holder, none of `joints` nor locked, at the nearest point along the skin that
    has one; −1 where there is none."""
    index, weights = index[ground.first], weights[ground.first]
    other = np.where(np.isin(index, joints) | locked[index], 0.0, weights)
    strongest = np.take_along_axis(index, other.argmax(1)[:, None], 1)[:, 0].astype(np.int64)
    sources = np.flatnonzero(other.max(1) > amounts.LEAST)
    out = np.full(len(index), -1, np.int64)
    if len(sources):
        rows = np.repeat(np.arange(len(index)), np.diff(ground.starts))
        ways = csr_matrix((ground.long[:, 0], (rows, ground.fans[:, 0])), shape=(len(index),) * 2)
        _, _, source = dijkstra(ways, False, sources, return_predecessors=True, min_only=True)
        out[source >= 0] = strongest[source[source >= 0]]
    return out


def checked(character: Character, points: list[int] | np.ndarray) -> np.ndarray:
    """Points by number, each once, in their order.  Raises BadParameters."""
    found = np.unique(np.asarray(points, np.int64))
    if not len(found):
        raise BadParameters("No points are chosen.", character.name, "Choose some first.")
    if found[0] < 0 or found[-1] >= len(character.points):
        raise BadParameters("There is no such point.", character.name, "Choose points of this mesh.")
    return found


def only(before: Character, after: Character, points: np.ndarray) -> Character:
    """`before` with points (p,) held as in `after`; what locked joints hold stays.  Raises StepRefused without a skin before."""
    rows, new = Rows(before), Rows(after)
    names = [n for n in new.names if n not in rows.skin.locked]
    others = [n for n in rows.names if n not in rows.skin.locked and n not in names and rows.of(n)[points].any()]
    rows.put(points, {n: new.of(n)[points] for n in names} | {n: np.zeros(len(points)) for n in others})
    return rows.result()


def held_by(character: Character, points: np.ndarray, joint: str, weight: float) -> Character:
    """Points (p,) held by a joint so much; their other holders share the rest."""
    rows = Rows(character)
    rows.put(points, {joint: np.full(len(points), weight)})
    return rows.result()


def graded(
    character: Character, points: np.ndarray, joint: str, start: np.ndarray, end: np.ndarray, low: float, high: float
) -> Character:
    """A joint's weight runs from `low` at one place to `high` at another, straight between them, over points (p,)."""
    rows, way = Rows(character), end - start
    if float(way @ way) < 1e-18:
        raise BadParameters("Both ends of the run are in one place.", joint, "Choose two places.")
    t = np.clip((character.points[points] - start) @ way / float(way @ way), 0.0, 1.0)
    rows.put(points, {joint: low + (high - low) * t})
    return rows.result()


def scaled(character: Character, points: np.ndarray, factors: Mapping[str, float]) -> Character:
    """Joints hold points (p,) by their factor of what they held; the others share the rest."""
    rows = Rows(character)
    rows.put(points, {n: f * rows.of(n)[points] for n, f in factors.items()})
    return rows.result()


def swapped(character: Character, points: np.ndarray, a: str, b: str) -> Character:
    """Two joints hold points (p,) as the other did."""
    rows = Rows(character)
    ia, ib = rows.number(a), rows.number(b)
    index = rows.index[points]
    rows.index[points] = np.where(index == ia, ib, np.where(index == ib, ia, index)).astype(index.dtype)
    return rows.result()


def copied(character: Character, points: np.ndarray, held: Mapping[str, float]) -> Character:
    """Points (p,) held as a row says: joint → weight; what it leaves out holds nothing there, locked ones excepted."""
    rows = Rows(character)
    fixed = set(rows.skin.locked)
    wanted = {n: w for n, w in held.items() if n not in fixed}
    if not wanted or sum(wanted.values()) <= 0:
        raise BadParameters("The row holds nothing.", character.name, "Give some joint a weight that isn't locked.")
    names = dict.fromkeys([*wanted, *(n for n in rows.names if n not in fixed and rows.of(n)[points].any())])
    total = sum(wanted.values())
    left = 1.0 - sum((rows.of(n)[points] for n in fixed), np.zeros(len(points)))
    rows.put(points, {n: wanted.get(n, 0.0) / total * np.maximum(left, 0.0) for n in names})
    return rows.result()


def evened(character: Character, points: np.ndarray, share: float, rounds: int) -> Character:
    """Points (p,) taken a share of the way to their neighbours' mean, so many times."""
    rows, ground = Rows(character), ground_of(character)
    at = np.unique(ground.of[points])
    starts, around = beside(ground, at)
    for _ in range(rounds):
        amounts.mix(
            rows.index, rows.weights, ground.first[at].astype(np.int64), np.full(len(at), share), starts, around, rows.locked, rows.most,
        )  # fmt: skip
        _twins_alike(rows, points)
    return rows.result()


def beside(ground: Ground, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Neighbours of joined points (k,), as points of the mesh: around[starts[i]:starts[i + 1]]."""
    starts, around = ground.beside(at)
    return starts, ground.first[around]


def _twins_alike(rows: Rows, points: np.ndarray) -> None:
    """Points that lie in one place are held alike, as the one that stands for them."""
    own = rows.ground.first[rows.ground.of[points]]
    rows.index[points], rows.weights[points] = rows.index[own], rows.weights[own]


def from_neighbours(character: Character, points: np.ndarray) -> Character:
    """Points (p,) held as what lies round them: each anew from neighbours that aren't chosen, inwards ring by ring."""
    rows, ground = Rows(character), ground_of(character)
    waiting = np.zeros(len(ground.places), bool)
    waiting[ground.of[points]] = True
    while waiting.any():
        at = np.flatnonzero(waiting)
        starts, around = beside(ground, at)
        known = ~waiting[ground.of[around]]
        row = np.repeat(np.arange(len(at)), np.diff(starts))
        count = np.bincount(row[known], minlength=len(at))
        ready = count > 0
        if not ready.any():
            break  # a patch with nothing round it: left as it is
        begin = np.concatenate([[0], np.cumsum(count[ready])])
        amounts.mix(
            rows.index, rows.weights, ground.first[at[ready]].astype(np.int64), np.ones(ready.sum()), begin,
            around[known], rows.locked, rows.most,
        )  # fmt: skip
        waiting[at[ready]] = False
    _twins_alike(rows, points)
    return rows.result()


def kept_off(character: Character, joint: str, where: str) -> Character:
    """A joint taken off where it has no business, as `strays_of` finds it.  Raises NotFound where it isn't found (any more)."""
    found = next((s for s in strays_of(character) if (s.joint, s.where) == (joint, where)), None)
    if found is None:
        raise NotFound(f"{joint} holds nothing of {where} that it shouldn't.", joint, "Look at the list again.")
    return taken_off(character, joint, found.points)


def taken_off(character: Character, joint: str, points: np.ndarray) -> Character:
    """A joint taken off points (p,), and what lies round them evened out: taking alone leaves a step at their rim."""
    wide = points
    for _ in range(RIM):
        wide = grown(character, wide)
    off = held_by(character, points, joint, 0.0)
    assert off.skin is not None
    own = off.skin
    alone = off.with_(skin=own.model_copy(update={"locked": (*own.locked, joint)}))  # it isn't evened back on to them
    return evened(alone, wide, 0.5, SOFTENED).with_(skin=own)


def rigid(character: Character, points: np.ndarray) -> Character:
    """Points (p,) each held by the nearest bone alone."""
    rows = Rows(character)
    bones = [b for b in bones_of(character) if b.joint not in rows.skin.locked]
    if not bones:
        raise StepRefused("Every joint is locked.", character.name, "Unlock one.")
    nearest = np.stack([distance_to_segments(character.points[points], b.segments) for b in bones], 1).argmin(1)
    for k in np.unique(nearest):
        mine = points[nearest == k]
        rows.put(mine, {bones[k].joint: np.ones(len(mine))})
    return rows.result()


def mirrored(character: Character, from_left: bool) -> Character:
    """One side's weights on the other, by place: each point takes what holds the point nearest to its mirrored place.

    Points on the middle plane hold left and right alike.  Raises StepRefused where joints have locked partners.
    """
    rows, points = Rows(character), character.points
    side = 1.0 if from_left else -1.0
    band = 1e-4 * character.size
    take = np.flatnonzero(points[:, 0] * side < -band)
    source = mirror_partners(character)[1][take]
    partner = {n: opposite_name(n) for n in rows.names}
    for n in list(partner.values()):
        if n in character.joint_index and character.joint(n).deforms and n not in rows.names:
            rows.names.append(n)
    other = np.array(
        [rows.names.index(partner[n]) if partner.get(n) in rows.names else i for i, n in enumerate(rows.names)]
    )
    fixed = [n for n in rows.skin.locked if rows.of(n)[take].any()]
    if fixed:
        raise StepRefused(f"{fixed[0]} is locked and holds that side.", fixed[0], "Unlock it first.")
    rows.index[take] = other[rows.index[source]].astype(rows.index.dtype)
    rows.weights[take] = rows.weights[source]
    middle = np.flatnonzero(np.abs(points[:, 0]) <= band)
    _even_middle(rows, middle, other)
    return rows.result()


def _even_middle(rows: Rows, middle: np.ndarray, other: np.ndarray) -> None:
    """Points on the middle plane: the mean of what they are and of its mirror image."""
    if not len(middle):
        return
    n = len(rows.names)
    table = np.zeros((len(middle), n))
    for slot in range(rows.weights.shape[1]):
        np.add.at(table, (np.arange(len(middle)), rows.index[middle, slot]), rows.weights[middle, slot])
    mean = 0.5 * (table + table[:, other])
    order = np.argsort(-mean, axis=1, kind="stable")[:, : rows.weights.shape[1]]
    best = np.take_along_axis(mean, order, 1)
    best[:, rows.most :] = 0.0
    best /= np.maximum(best.sum(1, keepdims=True), 1e-300)
    pad = rows.weights.shape[1] - best.shape[1]
    order, best = np.pad(order, ((0, 0), (0, pad)), "edge"), np.pad(best, ((0, 0), (0, pad)))
    rows.index[middle], rows.weights[middle] = order.astype(rows.index.dtype), best.astype(np.float32)


def rounded(character: Character, steps: int) -> Character:
    """Every weight a whole number of 1/steps, rows still summing to one: the largest remainders are rounded up."""
    rows = Rows(character)
    if rows.skin.locked:
        raise StepRefused("Some joints are locked.", rows.skin.locked[0], "Unlock them: rounding changes every weight.")
    exact = rows.weights.astype(float) * steps
    whole = np.floor(exact + 1e-6)
    missing = np.rint(steps - whole.sum(1)).astype(int)
    order = np.argsort(-(exact - whole), axis=1, kind="stable")
    rank = np.empty_like(order)
    np.put_along_axis(rank, order, np.arange(order.shape[1])[None].repeat(len(order), 0), 1)
    whole += rank < missing[:, None]
    rows.weights = (whole / steps).astype(np.float32)
    heavy = np.argsort(-rows.weights, axis=1, kind="stable")
    rows.weights = np.take_along_axis(rows.weights, heavy, 1)
    rows.index = np.take_along_axis(rows.index, heavy, 1)
    rows.index = np.where(rows.weights > 0, rows.index, rows.index[:, :1])
    return rows.result()


def pruned(character: Character, least: float, influences: int) -> Character:
    """No weight below `least`, and at most so many a point; 0: as many as before.  Locked ones stay."""
    rows = Rows(character)
    locked, most = rows.locked, influences or rows.skin.influences
    fixed = ((rows.weights > 0) & locked[rows.index]).sum(1)
    free = np.where(locked[rows.index], 0, rows.weights).sum(1) > 0
    if (fixed + free > most).any():
        raise StepRefused(
            f"Locked joints keep {int((fixed + free > most).sum()):,} points at more than {most}.", rows.skin.locked[0],
            "Unlock them, or keep more a point.",
        )  # fmt: skip
    keep = (rows.weights >= least) | locked[rows.index]
    keep[np.arange(len(keep)), rows.weights.argmax(1)] = True
    open_ = np.where(locked[rows.index], 0, rows.weights)
    bare = np.flatnonzero(
        (open_.max(1) > 0) & ~(keep & (open_ > 0)).any(1)
    )  # what isn't locked must still be somebody's
    keep[bare, open_[bare].argmax(1)] = True
    weights = np.where(keep, rows.weights, 0).astype(np.float32)
    changed = np.flatnonzero((weights != rows.weights).any(1) | ((weights > 0).sum(1) > most))
    rows.weights = weights
    amounts.whole(rows.index, rows.weights, changed, locked, min(most, rows.weights.shape[1]))
    rows.skin = rows.skin.model_copy(update={"influences": most})
    return rows.result()
