"""Follow rules and spaces: things that go where others go, with the offset they had at rest."""

from __future__ import annotations

from collections.abc import Callable

from ...character import Follow, Ref, Space
from ...errors import BadParameters
from ..builder import Builder, bring_along
from ..frames import (
    IDENTITY,
    ORIGIN,
    Frame,
    Vec,
    blend,
    compose,
    inverse,
    length,
    place_of,
    rotate,
    sub,
    swing,
    turn_vector,
    turned_by_vector,
    unit,
    with_place,
)
from ..program import Operation, State, Values
from ..slots import Slot


def _goal(builder: Builder, slot: str, source: Ref) -> tuple[str | None, Callable[[State], Frame]]:
    """Where `slot` would be if it were fixed to the source since rest."""
    from_ = builder.thing(source)
    local = builder.local(slot, from_)
    if from_ is None:
        return None, lambda state: local
    index = builder.slots[from_]
    return from_, lambda state: compose(state[index], local)


def _own_turn(builder: Builder, source: Ref) -> tuple[tuple[str, ...], Callable[[State], Frame]]:
    """What a source does in its own parent: identity at rest."""
    kind, name = source.kind, source.name
    if kind == "joint":
        parent = builder.parent_slot(builder.character.joint(name))
    elif kind == "control":
        parent = builder.parent_of.get(name)
    else:
        return (), lambda state: IDENTITY
    index, local = builder.slots[source], builder.local(source, parent)
    if parent is None:
        back = inverse(local)
        return (source,), lambda state: compose(back, state[index])
    above = builder.slots[parent]
    return (source, parent), lambda state: compose(inverse(compose(state[above], local)), state[index])


def _added(out: int, own: Callable[[State], Frame]) -> Callable[[State], Frame]:
    """What the follower has, with what a source does in its own parent on top."""
    return lambda state: compose(state[out], own(state))


def masked_turn(turn: Frame, axes: tuple[bool, bool, bool]) -> Frame:
    """The rotation with only these components of its rotation vector kept."""
    x, y, z = (c * keep for c, keep in zip(turn_vector(turn), axes, strict=True))
    return turned_by_vector((x, y, z))


def taken(frame: Frame, goal: Frame, what: str, share: float, axes: tuple[bool, bool, bool]) -> Frame:
    """`frame` brought to `goal` by a share: all of it, only its place or only its turn, on some axes."""
    place, turn = place_of(frame), frame
    if what in ("all", "place"):
        q = place_of(goal)
        place = tuple(p + share * (g - p) * keep for p, g, keep in zip(place, q, axes, strict=True))  # type: ignore[assignment]
    if what in ("all", "turn"):
        if axes != (True, True, True):
            own = compose(inverse(with_place(frame, ORIGIN)), with_place(goal, ORIGIN))
            goal = compose(frame, masked_turn(own, axes))
        turn = blend(frame, goal, share)
    return with_place(turn, place)


def follow_operations(builder: Builder, rule: Follow) -> list[Operation]:
    """One operation that amends the follower once its sources are where they are."""
    if rule.what == "size":
        return [_size(builder, rule)]
    kind, name = rule.thing.kind, rule.thing.name
    if kind == "ground":
        raise BadParameters("The ground follows nothing.", rule.name, "Choose a joint or a control.")
    slot = builder.stand_slot(name) if kind == "control" else rule.thing
    out = builder.slots[slot]
    below = builder.carried(name) if kind == "joint" else []
    amends = (slot,) if kind == "control" else builder.chain_amends(name)
    weights = [*rule.weights, *([1.0] * len(rule.sources))][: len(rule.sources)]
    total = sum(weights)
    shares, so_far = [], 0.0
    for w in weights:  # folded one by one, so that each ends with its share of the whole
        so_far += w
        shares.append(w / so_far if so_far > 0 else 0.0)
    strength, what, axes = rule.strength if total > 0 else 0.0, rule.what, rule.axes
    reads: set[str] = set()
    goals: list[Callable[[State], Frame]] = []
    for source in rule.sources:
        if rule.reading == "local" and what != "aim":
            names, own = _own_turn(builder, source)
            reads.update(names)
            goals.append(_added(out, own))
        else:
            from_, goal = _goal(builder, slot, source)
            reads.update({from_} - {None})  # type: ignore[arg-type]
            goals.append(goal)
    if what == "aim":
        return [_aim(builder, rule, slot, amends, below, shares, strength)]

    def run(state: State, values: Values) -> None:
        frame: Frame = state[out]
        goal = goals[0](state)
        for other, share in zip(goals[1:], shares[1:], strict=True):
            goal = blend(goal, other(state), share)
        now = taken(frame, goal, what, strength, axes)
        state[out] = now
        bring_along(state, below, frame, now)

    words = {"all": "goes with", "place": "stays by", "turn": "turns with"}[what]
    return [Operation(f"{name} {words} {_names(rule.sources)}", tuple(reads - set(amends)), amends, run, amends=amends)]


def _names(sources: tuple[Ref, ...]) -> str:
    return " and ".join(s.name for s in sources)


def _aim(
    builder: Builder, rule: Follow, slot: str, amends: tuple[str, ...], below: list[int], shares: list[float],
    strength: float,
) -> Operation:  # fmt: skip
    out, rest = builder.slots[slot], builder.rest(slot)
    names = [builder.thing(s) for s in rule.sources]
    slots = [(builder.slots[n] if n else -1) for n in names]

    def middle(state: list[object] | None) -> Vec:
        at: Vec = ORIGIN
        for name, s, share in zip(names, slots, shares, strict=True):
            frame = builder.rest(name) if state is None and name else (state[s] if state and s >= 0 else IDENTITY)
            p = place_of(frame)  # type: ignore[arg-type]
            at = (at[0] + share * (p[0] - at[0]), at[1] + share * (p[1] - at[1]), at[2] + share * (p[2] - at[2]))
        return at

    sight = rotate(inverse(with_place(rest, ORIGIN)), unit(sub(middle(None), place_of(rest))))

    def run(state: State, values: Values) -> None:
        frame: Frame = state[out]
        here = place_of(frame)
        way = sub(middle(state), here)
        if length(way) < 1e-9:
            return
        turned = compose(swing(rotate(frame, sight), unit(way)), with_place(frame, ORIGIN))
        now = blend(frame, with_place(turned, here), strength)
        state[out] = now
        bring_along(state, below, frame, now)

    name = rule.thing.name
    reads = tuple(n for n in names if n)
    return Operation(f"{name} aims at {_names(rule.sources)}", reads, amends, run, amends=amends)


def _size(builder: Builder, rule: Follow) -> Operation:
    """A joint takes over the size of others, as a share of what they grew by."""
    kind, name = rule.thing.kind, rule.thing.name
    if kind != "joint":
        raise BadParameters("Only joints take over a size.", rule.name, "Choose a joint to follow.")
    out = builder.scale_slot(name)
    weights = [*rule.weights, *([1.0] * len(rule.sources))][: len(rule.sources)]
    total = max(sum(weights), 1e-12)
    reads, controls, sizes = [], [], []
    for source in rule.sources:
        what, other = source.kind, source.name
        if what == "joint":
            reads.append(Slot.scale(other))
            sizes.append((builder.scale_slot(other), -1))
        elif what == "control" and (other, "size") in builder.channels:
            controls.append(other)
            sizes.append((-1, builder.channels[(other, "size")]))
        else:
            raise BadParameters(
                f"{other or 'The ground'} has no size.", rule.name, "Choose a joint or a sizing control."
            )
    strength, axes = rule.strength, rule.axes

    def run(state: State, values: Values) -> None:
        grown = [1.0, 1.0, 1.0]
        for k in range(3):
            if axes[k]:
                mean = sum(w * (state[s][k] if s >= 0 else values[v]) for w, (s, v) in zip(weights, sizes, strict=True))
                grown[k] = 1.0 + strength * (mean / total - 1.0)
        own = state[out]
        state[out] = (own[0] * grown[0], own[1] * grown[1], own[2] * grown[2])

    slot = Slot.scale(name)
    words = f"{name} is sized with {_names(rule.sources)}"
    amends = (slot,) if slot in builder.written_with else ()
    if not amends:  # nobody writes its size: it begins at one each time
        grow = run

        def run(state: State, values: Values) -> None:
            state[out] = (1.0, 1.0, 1.0)
            grow(state, values)

    return Operation(words, tuple(reads), (slot,), run, tuple(controls), amends=amends)


def space_operations(builder: Builder, rule: Space) -> list[Operation]:
    """The control's standing place is brought over to each space by the value of that space's channel."""
    slot = builder.stand_slot(rule.control)
    out = builder.slots[slot]
    goals, reads, values_at = [], [], []
    for source, channel in zip(rule.sources, rule.channels(), strict=True):
        from_, goal = _goal(builder, slot, source)
        reads += [from_] if from_ else []
        index = builder.channels.get((rule.control, channel))
        if index is not None:
            goals.append(goal)
            values_at.append(index)
    what = rule.what

    def run(state: State, values: Values) -> None:
        for goal, index in zip(goals, values_at, strict=True):
            share = values[index]
            if share > 0.0:
                state[out] = taken(state[out], goal(state), what, share, (True, True, True))

    words = f"{rule.control} may stand on {_names(rule.sources)}"
    return [Operation(words, tuple(reads), (slot,), run, (rule.control,), amends=(slot,))]
