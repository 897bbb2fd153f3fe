"""Which plan a body asks for, and why."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..character import Character
from ..derived import derived
from ..geometry.transform import UPRIGHT
from ..progress import tell
from .accessories import apart_words, body_alone
from .anatomy.body import Body, clearance, fill, look, membranes, pieces_of
from .anatomy.four import feet_apart
from .anatomy.line import inwards
from .anatomy.others import many_roles
from .anatomy.roles import Roles, finned_roles, four_roles, upright_roles

HIDING = (
    0.6  # what it costs to say that feet hide each other, and the cost of a reading from which on that is looked at
)
LIKELY = 2.6  # a body that costs no more than this is of the kind; one that costs less than MARGIN more is as likely
POOR = 5.0  # … and one that costs as much as this is of none: the cast's legged larva costs four as a chain
MARGIN = 0.7
LYING, BETTER = 1.0, 1.0  # a body that costs more may lie; if it does, it costs by so much less once it stands


@dataclass(frozen=True)
class Proposal:
    """A plan, what it costs to read the body that way, and what speaks for it."""

    plan: str
    cost: float
    why: str


def _kind(plan: str) -> str:
    """A plan's name as what a body is."""
    return f"a {plan} body" if plan in ("winged", "many-legged", "finned") else f"a {plan}"


@dataclass(frozen=True)
class Lying:
    """A body that reads far better with another axis up: which one (a key of UPRIGHT), and as what plan."""

    up: str
    plan: str


@dataclass(frozen=True)
class Proposals:
    """The likeliest first; `sure`: whether the first stands out; lying: where another axis is rather up; apart: a sentence on what is
    no body."""

    all: tuple[Proposal, ...]
    ends: int
    lying: Lying | None = None
    apart: str = ""

    @property
    def best(self) -> Proposal:
        return self.all[0]

    @property
    def sure(self) -> bool:
        if self.lying:
            return False
        return self.best.cost < LIKELY and (len(self.all) < 2 or self.all[1].cost - self.best.cost > MARGIN)

    def words(self) -> str:
        return f"{self._reads()} {self.apart}".rstrip()

    def _reads(self) -> str:
        nearest = f"{_kind(self.best.plan)}: {self.best.why}."
        second = f"{_kind(self.all[1].plan)}: {self.all[1].why}." if len(self.all) > 1 else ""
        poor = self.best.cost >= POOR
        most = "" if self.best.cost < LIKELY else "most "
        first = f"No plan fits this well. Nearest comes {nearest}" if poor else f"This looks {most}like {nearest}"
        if self.lying:
            axis = self.lying.up.replace("-", "−").upper()
            return f"{first} It may lie, though: with {axis} up it reads better, as {_kind(self.lying.plan)}."
        if self.sure or not second:
            return first
        return f"{first} Then {second}" if poor else f"{first} It might be {second.replace(': ', ' too: ', 1)}"

    def as_dict(self) -> dict[str, Any]:
        return {
            "plan": self.best.plan, "sure": self.sure, "words": self.words(), "ends": self.ends,
            "all": [{"plan": p.plan, "cost": round(p.cost, 2), "why": p.why} for p in self.all],
            "lying": {"up": self.lying.up, "plan": self.lying.plan} if self.lying else None,
        }  # fmt: skip


def propose(character: Character) -> Proposals:
    """Which plan the body asks for, and whether it lies.  Raises StepRefused where it encloses nothing."""
    return replace(_read(body_alone(character)), apart=apart_words(character))


@derived("points", "face_starts", "face_corners", "parts", most=4)
def _read(character: Character) -> Proposals:
    found = _proposed(character)
    if found.best.cost < LYING:
        return found
    tell(0.8, "looking whether it lies")
    turned = {up: character.with_(arrays={"points": character.points @ UPRIGHT[up].T}) for up in ("z", "-z")}
    read = {up: _proposed(c).best for up, c in turned.items()}
    # a fish on its back reads as well as one on its belly, and files with Z up are the usual ones
    up = "-z" if read["-z"].cost < read["z"].cost - MARGIN else "z"
    if read[up].cost < min(LIKELY, found.best.cost - BETTER):
        return replace(found, lying=Lying(up, read[up].plan))
    return found


def _proposed(character: Character) -> Proposals:
    tell(0.2, "filling the body")
    body = look(character, fill(character))
    tell(0.6, "telling the limbs apart")
    web, gap = membranes(character, body.solid), clearance(body)
    apart = feet_apart(body)
    found = [
        *_upright(body, web),
        *_four(body, apart, web, gap),
        *_many(body, web),
        *_finned(body, web, gap),
        _chain(body, web, gap, 1.6 if apart else 0.0),
    ]
    found.append(_head(body))
    return Proposals(tuple(sorted(found, key=lambda p: p.cost)), len(body.tips))


def _rise(body: Body, roles: Roles) -> float:
    """How steeply the trunk stands: the height between its two ends over the way between them."""
    h, a, b, c, d = (roles[k] for k in ("head", "hand_a", "hand_b", "foot_c", "foot_d"))
    up = inwards(body, h)
    top = up.at(up.s_of(body.parts(h, a, b)))
    low = np.mean(
        [x.at(x.s_of(body.parts(i, j, h))) for x, i, j in ((inwards(body, c), c, d), (inwards(body, d), d, c))], axis=0
    )
    return float((top - low)[1] / max(float(np.linalg.norm(top - low)), 1e-9))


def _upright(body: Body, web: float) -> list[Proposal]:
    y = body.heights
    out = []
    for plan, wings in (("biped", False), ("winged", True)):
        found = upright_roles(body, 12 if wings else 9, wings)
        if not found:
            continue
        r = found[0]
        rise = _rise(body, r)
        hands = [float(y[r[k]]) for k in ("hand_a", "hand_b")]
        # A level trunk is a biped's too where its hands hang free.
        level = 3.0 * max(0.0, 0.75 - rise) * (0.35 if min(hands) > 0.25 else 1.0)
        cost = r.cost + level + (0.0 if wings else 3.0 * sum(max(0.0, 0.12 - x) for x in hands) / 0.12)
        cost += 2.5 * max(0.0, 0.06 - web) / 0.06 if wings else 12.0 * web
        tail = " and a tail" if "tail" in r else ""
        stands = "stands upright" if rise > 0.6 else "stands on two legs, its trunk level"
        why = f"two wings spread, two legs{tail}" if wings else f"two arms, two legs{tail}; it {stands}"
        out.append(Proposal(plan, float(cost), why))
    return out


LEAST_LEG, STUBS = 0.06, 8.0  # legs shorter than that, a share of the span, are stubs under a body; what stubs cost
LEVELS = np.arange(0.04, 0.5, 0.03)  # of the body's height, at which what stands on the ground is looked at
LOW = 0.25  # a body that leans, or lifts a foot, has two feet on the ground from there at the latest
FEW = 5  # pieces on the ground: four feet, and a tail or a trunk that hangs down


def _legs_seen(body: Body, gap: float) -> float:
    """How long legs are at least, a share of the span, by what is open between them: as high as the belly hangs, and as what stands
    on the ground stays in pieces.  Of short thick legs it tells more than their tips, which end where the flesh of the trunk begins.
    """
    solid = body.solid
    heights = (solid.centres[:, 1] - body.low) / max(body.tall, 1e-9)
    best = run = 0
    open_to = 0.0
    for level in LEVELS:
        sizes = np.bincount(pieces_of(solid, heights < level))[1:]
        feet = int((sizes > 0.06 * sizes.sum()).sum())
        if feet > FEW:  # it stands on more than four
            return 0.0
        run = run + 1 if feet > 1 else 0
        if run == 0 and level > LOW:
            break
        if run > best:
            best, open_to = run, float(level)
    return min(gap, open_to * body.tall / body.span)


def _four(body: Body, apart: list[Body], web: float, gap: float) -> list[Proposal]:
    found, hidden = four_roles(body), 0.0
    if not found or found[0].cost > HIDING:  # legs that touch hide each other's tips
        again = [(more, roles) for more in apart if (roles := four_roles(more))]
        other, roles = min(again, key=lambda x: x[1][0].cost, default=(body, found))
        if roles and (not found or roles[0].cost + HIDING < found[0].cost):
            body, found, hidden = other, roles, HIDING
    if not found:
        return []
    r = found[0]
    rise = abs(_rise(body, r))
    feet = int(((body.heights < 0.2) & (body.length > 0.08 * body.span)).sum())
    cost = (
        r.cost + hidden + 3.0 * max(0.0, rise - 0.6) + 12.0 * web + 20.0 * max(0.0, 0.04 - gap) + 1.0 * max(0, feet - 4)
    )
    # Of each pair the longer one counts: legs that touch hide each other's length.
    legs = [
        max(float(body.length[r[a]]), float(body.length[r[b]])) for a, b in (("hand_a", "hand_b"), ("foot_c", "foot_d"))
    ]
    leg = min(legs) / body.span
    # what is open between two legs says nothing of arms
    if leg < LEAST_LEG and max(float(body.heights[r[k]]) for k in ("hand_a", "hand_b")) < LOW:
        leg = max(leg, _legs_seen(body, gap))
    cost += STUBS * max(0.0, LEAST_LEG - leg) / LEAST_LEG
    why = "four feet under a lying trunk" + (", a tail" if "tail" in r else "")
    return [Proposal("quadruped", float(cost), why)]


ALONE, NEAR_PLANE = 1.0, 0.1  # what a leg on the middle plane costs, and how near to it, a share of the span, that is


def _many(body: Body, web: float) -> list[Proposal]:
    found = many_roles(body)
    if not found:
        return []
    r = found[0]
    n = len(list(r.more["legs"]))  # type: ignore[call-overload]
    cost = r.cost + 12.0 * web + (2.5 if n < 6 else 0.0) + ALONE * _alone(body, r)
    return [Proposal("many-legged", float(cost), f"{n} legs on the ground")]


def _alone(body: Body, roles: Roles) -> int:
    """Legs that lie on the middle plane, each its own mirror image and no other's: a head that hangs and a tail are no pair of legs."""
    tips = np.array([body.place(i) for i in list(roles.more["legs"])])  # type: ignore[call-overload]
    left = np.cross([0.0, 1.0, 0.0], np.asarray(roles.more["ahead"]))
    off = (tips - np.asarray(roles.more["middle"])) @ left
    apart = np.linalg.norm(tips[:, None] - (tips - 2.0 * off[:, None] * left)[None], axis=2)
    own = np.diag(apart)
    return int(((apart.argmin(1) == np.arange(len(tips))) & (own < 2.0 * NEAR_PLANE * body.span)).sum())


def _finned(body: Body, web: float, gap: float) -> list[Proposal]:
    found = finned_roles(body)
    if not found or len(body.tips) < 3:
        return []
    r = found[0]
    way = body.place(r["head"]) - body.place(r["end"])
    pairs = list(r.more["pairs"])  # type: ignore[call-overload]
    stout = float(body.solid.depth.max() / body.span)
    steep = abs(float(way[1])) / max(float(np.linalg.norm(way)), 1e-9)
    cost = r.cost + 1.0 + 12.0 * web + 20.0 * gap + 5.0 * max(0.0, steep - 0.55)
    cost += (0.0 if pairs else 1.5) + 10 * max(0.0, 0.10 - stout) / 0.10
    return [
        Proposal(
            "finned", float(cost), f"a long trunk on its belly, {len(pairs)} pair{'s' * (len(pairs) != 1)} of fins"
        )
    ]


def _chain(body: Body, web: float, gap: float, feet: float) -> Proposal:
    i, j = np.unravel_index(int(np.argmax(body.table)), body.table.shape)
    rest = [k for k in range(len(body.tips)) if k not in (i, j)]
    stout = float(body.solid.depth.max() / body.span)
    cost = 8.0 * sum(max(0.0, float(body.length[k]) / body.span - 0.05) for k in rest) + feet
    cost += sum(0.8 for k in rest if body.heights[k] < 0.35 and float(body.length[k]) > 0.04 * body.span)  # feet
    cost += 12.0 * web + 20.0 * max(0.0, gap - 0.03) + 20 * max(0.0, stout - 0.10)
    return Proposal("chain", float(cost), "one long line without limbs")


def _head(body: Body) -> Proposal:
    """A head alone: stout, standing, eyes large for its size, a flat base; no long limbs."""
    c, solid = body.solid.centres, body.solid
    stout = float(solid.depth.max() / body.span)
    long = sum(max(0.0, float(n) / body.span - 0.3) for n in body.length[1:])
    base = c[c[:, 1] < body.low + 1.5 * solid.h]
    wide = float(np.ptp(base[:, [0, 2]], axis=0).max() / max(body.tall, 1e-9)) if len(base) else 0.0
    lies = float(np.ptp(c[:, [0, 2]], axis=0).max()) / max(body.tall, 1e-9)
    cost = (
        0.5
        + 3.0 * max(0.0, lies - 1.2)
        + 12.0 * max(0.0, 0.2 - stout)
        + 8.0 * long
        + 3.0 * max(0.0, 0.35 - wide) / 0.35
    )
    if body.eyes:
        radius = float(np.mean([r for _, r in body.eyes]))
        cost += 40.0 * max(0.0, 0.03 - radius / body.tall)
    else:
        cost += 1.2
    return Proposal("head", float(cost), "stout, on a base, without limbs")
