"""Which limb each tip of a body is: assignments to a plan's tree as a whole, cheapest first.

The costs speak of distances between tips (unlike partners, the order in which ways part), of how thick, high and long the
branches are, and of tips that are left over.  Costs of different plans are comparable: below about 2 a body is of the kind.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from .body import Body


@dataclass(frozen=True)
class Roles:
    """Tips by what they are: head, hand_a, hand_b, foot_c, foot_d, tail (or end); `more` holds what a plan adds."""

    cost: float
    tips: dict[str, int]
    more: dict[str, object] = field(default_factory=dict)

    def __getitem__(self, name: str) -> int:
        return self.tips[name]

    def __contains__(self, name: str) -> bool:
        return name in self.tips


HEADLIKE = 0.85  # what a tail of e times the head's flesh costs


def leaving(body: Body, i: int, others: Sequence[int]) -> float:
    """Metres from tip i to where its way leaves those between the others."""
    return min(body.parts(i, a, b) for a, b in itertools.combinations(others, 2))


def on_wing(body: Body, i: int, a: int, b: int) -> bool:
    """Whether tip i is a finger of the wing whose tip is a: it parts from a's way to b well before the trunk."""
    if i in (a, b):
        return False
    early = body.parts(a, i, b) < 0.72 * 0.5 * float(body.table[a, b])
    return early and bool(body.table[i, a] < body.table[i, b])


def _shorter_finger(body: Body, a: int, b: int) -> bool:
    """Whether one of two wing tips isn't its wing's longest finger: then another pair says the same."""
    t = body.table
    for k in range(len(body.tips)):
        if (on_wing(body, k, a, b) and t[k, b] > 1.02 * t[a, b]) or (
            on_wing(body, k, b, a) and t[k, a] > 1.02 * t[a, b]
        ):
            return True
    return False


def log_ratio(a: float, b: float) -> float:
    return abs(float(np.log(max(a, 1e-9) / max(b, 1e-9))))


def upright_roles(body: Body, most: int = 9, wings: bool = False) -> list[Roles]:
    """Head, two hands, two feet, perhaps a tail."""
    order = [int(i) for i in np.argsort(-body.length)[:most]]
    t, span, y, g = body.table, body.span, body.heights, body.girth / body.span
    found: list[Roles] = []
    low = [int(i) for i in np.argsort(-body.length)[most:] if y[i] < 0.25] if wings else []
    for c, d in itertools.combinations([*order, *low], 2):
        if max(y[c], y[d]) > 0.55 or t[c, d] < (0.08 if wings else 0.15) * span:
            continue
        # Of two legs that touch one seems short; beside wings both are.
        if not wings and log_ratio(body.length[c], body.length[d]) > 1.2:
            continue
        rest = [i for i in order if i not in (c, d)]
        for a, b in itertools.combinations(rest, 2):
            if t[a, b] < 0.15 * span or (wings and t[a, b] < 0.7 * span):
                continue
            if wings and _shorter_finger(body, a, b):
                continue
            for h in rest:
                if h in (a, b):
                    continue
                if wings and any(on_wing(body, k, a, b) or on_wing(body, k, b, a) for k in (c, d, h)):
                    continue
                found.append(_upright(body, (h, a, b, c, d), [i for i in rest if i not in (a, b, h)], y, g, wings))
    return sorted(found, key=lambda r: r.cost)


def _upright(
    body: Body, five: tuple[int, int, int, int, int], others: list[int], y: np.ndarray, g: np.ndarray, wings: bool
) -> Roles:  # fmt: skip
    h, a, b, c, d = five
    t, span = body.table, body.span
    crossed = min(abs(t[a, c] - t[b, d]) + abs(t[a, d] - t[b, c]), abs(t[a, d] - t[b, d]) + abs(t[a, c] - t[b, c]))
    unlike = (abs(t[a, h] - t[b, h]) + abs(t[c, h] - t[d, h]) + crossed) / span
    upper = (t[a, b] + t[a, h] + t[b, h]) / 3
    across = (t[a, c] + t[a, d] + t[b, c] + t[b, d] + t[h, c] + t[h, d]) / 6
    # the inner length between the three above and the two below: the four-point condition, averaged
    trunk = (across - 0.5 * upper - 0.5 * t[c, d]) / span
    arms = 0.5 * (body.parts(a, h, c) + body.parts(b, h, d)) / span
    neck = body.parts(h, a, b) / span
    legs = 0.5 * t[c, d] / span
    cost = 6.0 * unlike + 3.0 * (y[c] + y[d]) + 2.0 * max(0.0, 0.08 - trunk) / 0.08
    cost += (
        max(0.0, float(np.log(0.5 * (g[a] + g[b]) / g[h]))) + 0.6 * log_ratio(g[a], g[b]) + 0.6 * log_ratio(g[c], g[d])
    )
    cost += max(0.0, float(np.log((g[a] + g[b]) / (g[c] + g[d]))) - 0.2) + 1.2 * max(0.0, 0.75 - y[h])
    cost += 1.5 * max(0.0, float(np.log(neck / arms))) if arms > 0 and neck > 0 else 3.0
    cost += 2.0 * max(0.0, 0.07 - arms) / 0.07 + 2.0 * max(0.0, 0.10 - legs) / 0.10
    # Seen from the feet the head parts from the hands where the hands part from one another, at the shoulders; a tail does so
    # at the pelvis, ears do at the head.
    shoulders = 0.5 * (body.parts(c, a, b) + body.parts(d, a, b))
    heads = 0.25 * sum(body.parts(f, h, x) for f in (c, d) for x in (a, b))
    cost += 7.0 * max(0.0, 0.95 - heads / max(shoulders, 1e-9))
    # Ears and horns part from the head near its own tip; arms leave the trunk below the neck.
    eye = body.from_eyes()
    if eye is not None:
        cost += 2.0 * max(0.0, float(eye[h] - min(eye[a], eye[b])))
    if wings:
        cost += 5.0 * (1 - t[a, b] / span)
        others = [i for i in others if not on_wing(body, i, a, b) and not on_wing(body, i, b, a)]
    tail = None
    for i in others:
        low = body.parts(h, i, c) > 0.72 * body.parts(h, c, d)  # it leaves near the pelvis
        if wings and abs(t[i, a] - t[i, b]) > 0.12 * span:  # a scrap of one wing's membrane
            continue
        if low and body.parts(i, c, d) / span > 0.12 and body.length[i] > 0.08 * span:
            if tail is None or body.length[i] > body.length[tail]:
                tail = i
    if tail is not None:  # a head is thicker than a tail
        cost += 1.5 * max(0.0, float(np.log(g[tail] / g[h])))
    for i in others:  # what is left over: small things on the head are ears and cost little
        if i == tail:
            continue
        # seen from the head's tip an ear leaves before the arms do; what leaves after them is none
        leaves = 0.5 * (body.parts(h, i, c) + body.parts(h, i, d))
        arms_leave = 0.25 * sum(body.parts(h, x, f) for x in (a, b) for f in (c, d))
        on_head = leaves < 0.92 * arms_leave and t[i, h] < 0.8 * min(t[i, a], t[i, b])
        cost += (1.5 if on_head else 4.0) * max(0.0, body.length[i] / span - 0.07)
    tips = {"head": h, "hand_a": a, "hand_b": b, "foot_c": c, "foot_d": d}
    if tail is not None:
        tips["tail"] = tail
    return Roles(float(cost), tips)


def four_roles(body: Body, most: int = 11) -> list[Roles]:
    """Head, two fore feet (hand_a, hand_b), two hind feet, perhaps a tail."""
    order = [int(i) for i in np.argsort(-body.length)[:most]]
    t, span, y, g = body.table, body.span, body.heights, body.girth / body.span
    eye = body.from_eyes()
    low: list[int] = []
    for i in np.argsort(-body.length):  # one a foot: toes of one foot lie near each other
        if y[i] < 0.4 and all(t[i, j] > 0.05 * span for j in low):
            low.append(int(i))
    low = low[:8]
    order = list(dict.fromkeys([*order, *low]))
    found: list[Roles] = []
    for four in itertools.combinations(low, 4):
        p, q, r, s = four
        for a, b, c, d in ((p, q, r, s), (p, r, q, s), (p, s, q, r)):
            rest = [i for i in order if i not in four]
            for h in rest:
                fore_first = t[h, a] + t[h, b] <= t[h, c] + t[h, d]
                five = (h, a, b, c, d) if fore_first else (h, c, d, a, b)
                found.append(_four(body, five, [i for i in rest if i != h], y, g, eye))
    return sorted(found, key=lambda x: x.cost)


def _four(
    body: Body, five: tuple[int, int, int, int, int], others: list[int], y: np.ndarray, g: np.ndarray, eye: np.ndarray | None
) -> Roles:  # fmt: skip
    h, a, b, c, d = five
    t, span = body.table, body.span
    crossed = min(abs(t[a, c] - t[b, d]) + abs(t[a, d] - t[b, c]), 9.0)
    aside = abs(t[a, h] - t[b, h]) + abs(t[c, h] - t[d, h])
    unlike = (aside + crossed) / span
    pairs = (t[a, b] + t[c, d]) / span
    mixed = min(t[a, c] + t[b, d], t[a, d] + t[b, c]) / span
    cost = 6 * unlike + 2.5 * float(y[[a, b, c, d]].sum()) + 3.0 * max(0.0, pairs - mixed + 0.06)
    cost += 0.5 * (log_ratio(g[a], g[b]) + log_ratio(g[c], g[d]))
    ordered = (t[h, c] + t[h, d] - t[h, a] - t[h, b]) / span
    cost += 2.0 * max(0.0, 0.25 - ordered)
    # Feet stand where the trunk is over them: girdles are apart by about the trunk's length in space too.
    ground = [body.place(i) * [1, 0, 1] for i in (a, b, c, d)]
    stance = float(np.linalg.norm(0.5 * (ground[0] + ground[1]) - 0.5 * (ground[2] + ground[3]))) / span
    cost += 4.0 * max(0.0, 0.16 - stance) / 0.16
    if eye is not None:
        cost += 2.5 * float(eye[h])
    tail = None
    for i in others:  # nearer to the hind legs than to the head by as much as the trunk is long
        behind = (t[i, h] - 0.5 * (t[i, c] + t[i, d])) / span
        off = min(body.parts(i, c, d), body.parts(i, c, h)) / span
        beside = min(t[i, c], t[i, d]) > 0.55 * max(t[i, c], t[i, d])  # else it is a toe of one foot
        if behind > 0.05 and off > 0.05 and beside and (tail is None or t[i, h] > t[tail, h]):
            tail = i
    if tail is not None:  # a head that is turned aside is as likely as a tail that is
        cost += 3 * (abs(t[a, tail] - t[b, tail]) + abs(t[c, tail] - t[d, tail]) - aside) / span
    if tail is not None and eye is None:  # a head with its neck is more flesh than a tail, at least beyond their roots
        feet = (a, b, c, d)
        less, more = (body.flesh(i, 0.7 * leaving(body, i, feet)) + 0.005 for i in (tail, h))
        cost += HEADLIKE * (1.2 + float(np.log(less / more)))  # a third is usual
    on_head = [i for i in others if i != tail and t[i, h] < 0.6 * min(t[h, a], t[h, b])]
    for i in others:
        if i != tail and i not in on_head:
            cost += 4.0 * max(0.0, body.length[i] / span - 0.07)
    tips = {"head": h, "hand_a": a, "hand_b": b, "foot_c": c, "foot_d": d}
    if tail is not None:
        tips["tail"] = tail
    return Roles(float(cost), tips)


TWIN = (0.03, 0.26, 0.18)  # halves of a tail: least and most from their parting, most they differ, shares of the span


def finned_roles(body: Body, most: int = 8) -> list[Roles]:
    """Head and end; pairs of tips off the trunk that are alike are fins; perhaps a twin of the end (hind flippers)."""
    order = [int(i) for i in np.argsort(-body.length)[:most]]
    t, span, g = body.table, body.span, body.girth / body.span
    eye = body.from_eyes()
    found: list[Roles] = []
    for h, e in itertools.permutations(order, 2):
        twins = [
            i for i in order
            if i not in (h, e) and TWIN[0] * span < body.parts(e, i, h) < TWIN[1] * span
            and body.parts(i, e, h) > TWIN[0] * span and abs(t[i, h] - t[e, h]) < TWIN[2] * span
        ]  # fmt: skip
        for twin in [None, *twins]:
            rest = [i for i in order if i not in (h, e, twin)]
            far = float(t[h, e] if twin is None else max(t[h, e], t[h, twin]))
            cost = 3.0 * (1 - far / span) - (0.3 if twin is not None else 0.0)
            cost += sum(3.0 * max(0.0, float(t[i, h]) - far) / span for i in rest)  # all lies between head and end
            cost += 3.0 * float(eye[h]) if eye is not None else 0.8 * float(np.log(g[e] / g[h] + 0.3))
            free, pairs = set(rest), []
            options = sorted(
                (abs(t[i, h] - t[j, h]) + abs(t[i, e] - t[j, e]) + 0.3 * abs(body.length[i] - body.length[j]), i, j)
                for i, j in itertools.combinations(rest, 2)
                if t[i, j] > 0.08 * span
            )
            for off, i, j in options:  # a pair leaves the trunk at one place
                same = abs(body.parts(h, i, e) - body.parts(h, j, e)) < 0.12 * span
                if i in free and j in free and off < 0.32 * span and same:
                    free -= {i, j}
                    if min(body.length[i], body.length[j]) > 0.04 * span:
                        pairs.append((i, j))
                    cost += 3.0 * off / span
                    if len(pairs) == 1:
                        cost += 2.0 * max(0.0, body.parts(h, i, e) / t[h, e] - 0.7)
            cost += sum(4.0 * max(0.0, body.length[i] / span - 0.05) for i in free) - 0.4 * len(pairs)
            cost += 0.0 if pairs else 1.0
            pairs.sort(key=lambda p: float(t[p[0], h]))
            tips = {"head": h, "end": e} | ({"twin": twin} if twin is not None else {})
            found.append(Roles(float(cost), tips, {"pairs": pairs}))
    return sorted(found, key=lambda r: r.cost)
