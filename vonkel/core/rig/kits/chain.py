"""Chain: a tail, neck, feeler or trunk led by a few controls, with a fine turn on every joint."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from ...character import Channel, Character, Control, Kit, without_side
from ...geometry.measures import lengths_along
from ..builder import Builder
from ..frames import (
    Frame,
    add,
    compose,
    frame_from_quat,
    inverse,
    length,
    place_of,
    quat_from_frame,
    rotate,
    scaled,
    sub,
    swing,
    unit,
    with_place,
)
from ..program import UNIT_SCALE, Operation, State, Values
from ..slots import Slot
from .base import MOVE, TURN, KitKind, Options, control_at, lengthened, tagged
from .fine import curve_slot, fine_operation
from .turns import turn_controls

STRETCH = (
    Channel(name="stretch", rest=0.0, low=0.0, high=1.0),
    Channel(name="volume", rest=1.0, low=0.0, high=1.0),
)


class ChainOptions(Options):
    controls: int = Field(4, ge=2, le=12, description="how many controls lead the chain")


def spline_weights(count: int, at: np.ndarray) -> np.ndarray:
    """(n, count): how much each of `count` controls, evenly along a chain, leads a place at share `at` (n,) of it.

    A clamped uniform B-spline of degree three at most (de Boor 1978, A Practical Guide to Splines): weights are smooth,
    never negative and sum to one; the first and last control lead their ends alone.
    """
    degree = min(3, count - 1)
    knots = np.r_[np.zeros(degree), np.linspace(0, 1, count - degree + 1), np.ones(degree)]
    at = np.clip(at, 0, 1)
    basis = np.zeros((len(at), len(knots) - 1))
    span = np.clip(np.searchsorted(knots, at, "right") - 1, degree, count - 1)
    basis[np.arange(len(at)), span] = 1.0
    for d in range(1, degree + 1):
        new = np.zeros((len(at), len(knots) - 1 - d))
        for i in range(new.shape[1]):
            left, right = knots[i + d] - knots[i], knots[i + d + 1] - knots[i + 1]
            if left > 0:
                new[:, i] += (at - knots[i]) / left * basis[:, i]
            if right > 0:
                new[:, i] += (knots[i + d + 1] - at) / right * basis[:, i + 1]
        basis = new
    return basis


def spline_places(count: int) -> np.ndarray:
    """(count,): the share of the chain at which each control stands (Greville's abscissae)."""
    degree = min(3, count - 1)
    knots = np.r_[np.zeros(degree), np.linspace(0, 1, count - degree + 1), np.ones(degree)]
    return np.array([knots[i + 1 : i + degree + 1].mean() for i in range(count)])


class Chain(KitKind):
    kind = "chain"
    provides = frozenset({"lengthens"})
    about = "A few controls lead a tail, neck, feeler or trunk along a curve; every joint still has its own fine turn."
    roles = {"chain": (2, 64, "from the first joint to the last")}
    options = ChainOptions

    def _shares(self, character: Character, kit: Kit) -> np.ndarray:
        """(n + 1,): each joint's share of the chain's length, and the end of the last bone."""
        names = kit.joints["chain"]
        places = [np.array(character.joint(n).place) for n in names]
        places.append(self._tip(character, kit))
        run = lengths_along(np.array(places))
        return np.asarray(run / run[-1])

    @staticmethod
    def _tip(character: Character, kit: Kit) -> np.ndarray:
        last = character.joint(kit.joints["chain"][-1])
        kids = [k for k in character.children.get(last.name, ()) if k.role != "eye"]
        if kids:
            return np.array(kids[0].place)
        before = character.joint(kit.joints["chain"][-2])
        return np.asarray(np.array(last.place) + 0.6 * (np.array(last.place) - np.array(before.place)))

    def controls(self, character: Character, kit: Kit) -> list[Control]:
        names = kit.joints["chain"]
        shares = self._shares(character, kit)
        count = int(kit.options["controls"])
        places = np.array([*(character.joint(n).place for n in names), self._tip(character, kit)])
        stem = without_side(kit.name)
        made = []
        for k, share in enumerate(spline_places(count)):
            place = np.array([np.interp(share, shares, places[:, a]) for a in range(3)])
            near = character.joint(names[min(int(np.searchsorted(shares, share, "right")) - 1, len(names) - 1)])
            there = near.model_copy(update={"place": tuple(map(float, place))})
            # The first stays where the chain is fastened.  Leads aren't bound to one joint's freedom.
            own = (MOVE if k else ()) + TURN + (STRETCH if k == count - 1 else ())
            lead = control_at(character, kit, there, tagged(f"{stem} {k + 1}", kit), own, grow=1.35, key=f"lead:{k}")
            made.append(lead.model_copy(update={"channels": own, "order": "xyz"}))
        return [*made, *turn_controls(character, kit, names)]

    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        names = kit.joints["chain"]
        leads = sorted(
            (c for c in builder.character.controls if c.kit == kit.name and c.key.startswith("lead:")),
            key=lambda c: int(c.key[5:]),
        )
        base = builder.parent_slot(builder.character.joint(names[0]))
        stands = [base, *(Slot.control(c.name) for c in leads[:-1])]  # each lead carries those after it
        made = [o for c, p in zip(leads, stands, strict=True) for o in builder.standing(c, p)]
        made.append(self._curve(builder, kit, names, leads))
        made.append(fine_operation(builder, kit, names, f"{names[0]} to {names[-1]} take their own fine turns"))
        return made

    def _curve(self, builder: Builder, kit: Kit, names: tuple[str, ...], leads: list[Control]) -> Operation:
        """Every joint is carried by the leads near it, as a spline weighs them, and bones keep their lengths."""
        shares = self._shares(builder.character, kit)
        weights = spline_weights(len(leads), shares)
        outs = [builder.slots[curve_slot(builder, n)] for n in names]
        grips = [builder.slots[Slot.control(c.name)] for c in leads]
        rests = [builder.rest(Slot.joint(n)) for n in names]
        tip = tuple(float(x) for x in self._tip(builder.character, kit))
        places = [*(place_of(r) for r in rests), tip]
        sizes = [length(sub(b, a)) for a, b in zip(places, places[1:], strict=False)]  # type: ignore[arg-type]
        backs = [inverse(builder.rest(Slot.control(c.name))) for c in leads]
        chosen = [[(k, float(w)) for k, w in enumerate(row) if w > 1e-12] for row in weights]
        scales = [builder.scale_slot(n) for n in names]
        longer = [lengthened(builder.character.joint(n)) for n in names]
        stretch, volume = (builder.value(leads[-1], n) for n in ("stretch", "volume"))
        n = len(names)
        stills = [with_place(r, (0.0, 0.0, 0.0)) for r in rests]
        bones = [sub(b, a) for a, b in zip(places, places[1:], strict=False)]  # type: ignore[arg-type]
        own = [builder.value(c, k.name) for c in leads for k in c.channels if k.kind in ("move", "turn")]
        sprung = {t for r in builder.character.rules for t in r.speaks_of()}
        amended = [c.name in builder.stands or Slot.control(c.name) in sprung for c in leads]

        def run(state: State, values: Values) -> None:
            if all(values[i] == 0.0 for i in own) and not any(amended):  # nothing bends: all goes with the base
                first = compose(state[grips[0]], backs[0])
                for out, rest, scale in zip(outs, rests, scales, strict=True):
                    state[out] = compose(first, rest)
                    state[scale] = UNIT_SCALE
                return
            went = [compose(state[g], b) for g, b in zip(grips, backs, strict=True)]
            wanted = []
            for place, row in zip(places, chosen, strict=True):
                x = y = z = 0.0
                for k, w in row:
                    f = went[k]
                    x += w * (f[0] * place[0] + f[1] * place[1] + f[2] * place[2] + f[3])
                    y += w * (f[4] * place[0] + f[5] * place[1] + f[6] * place[2] + f[7])
                    z += w * (f[8] * place[0] + f[9] * place[1] + f[10] * place[2] + f[11])
                wanted.append((x, y, z))
            turns = [quat_from_frame(f) for f in went]
            give, keep = values[stretch], values[volume]
            at = wanted[0]
            for i in range(n):
                way = sub(wanted[i + 1], wanted[i])
                size = length(way)
                factor = 1.0 + (size / sizes[i] - 1.0) * give
                mean = _mean_turn(turns, chosen[i])
                turned = compose(mean, stills[i])
                if size > 1e-12 and sizes[i] > 1e-12:
                    carried = unit(rotate(mean, bones[i]))
                    turned = compose(swing(carried, unit(way)), turned)
                state[outs[i]] = with_place(turned, at)
                state[scales[i]] = longer[i](factor, keep)
                at = add(at, scaled(unit(way), sizes[i] * factor))

        reads = tuple(Slot.control(c.name) for c in leads)
        writes = tuple(Slot.curve(x) for x in names) + tuple(Slot.scale(x) for x in names)
        words = f"{names[0]} to {names[-1]} lie along the curve of {len(leads)} controls"
        return Operation(words, reads, writes, run, (leads[-1].name,))


def _mean_turn(turns: list[tuple[float, float, float, float]], row: list[tuple[int, float]]) -> Frame:
    """The weighted mean of a few rotations near each other: quaternions summed in one hemisphere, made unit."""
    k0 = row[0][0]
    a = turns[k0]
    w = x = y = z = 0.0
    for k, share in row:
        q = turns[k]
        s = share if a[0] * q[0] + a[1] * q[1] + a[2] * q[2] + a[3] * q[3] >= 0 else -share
        w, x, y, z = w + s * q[0], x + s * q[1], y + s * q[2], z + s * q[3]
    return frame_from_quat((w, x, y, z))
