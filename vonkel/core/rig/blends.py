"""Strengths of shapes that come from elsewhere than their own sliders: boards, combinations, in-betweens."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from ..character import Board, Ref, Shape
from ..character.boards import ACROSS, UP, picture_strengths, shape_strengths
from ..character.refs import SHAPES
from .builder import Builder
from .program import Operation, State, Values

GROUP = "shapes of shapes"  # the operations that have the last word on strengths


def comes_from(shape: Shape) -> tuple[str, ...]:
    """The shapes that one's strength comes from."""
    return (*shape.of, shape.between) if shape.between else shape.of


def by_need(shapes: Iterable[Shape]) -> tuple[list[Shape], str]:
    """Combinations and in-betweens, each after those that it comes from; and one that depends on itself, or nothing."""
    known = {s.name: s for s in shapes}
    out: list[Shape] = []
    done: dict[str, bool] = {}  # False: being looked at

    def visit(shape: Shape) -> str:
        if shape.name in done:
            return "" if done[shape.name] else shape.name
        done[shape.name] = False
        for name in comes_from(shape):
            circle = visit(known[name]) if name in known else ""
            if circle:
                return circle
        done[shape.name] = True
        if comes_from(shape):
            out.append(shape)
        return ""

    for s in known.values():
        circle = visit(s)
        if circle:
            return out, circle
    return out, ""


def tent(at: float, knots: Sequence[float]) -> Callable[[float], float]:
    """One at `at`, nothing at the nearest of the other knots on either side and beyond, straight between."""
    below = max((k for k in knots if k < at), default=None)
    above = min((k for k in knots if k > at), default=None)

    def strength(value: float) -> float:
        edge = below if value < at else above
        if edge is None:
            return 1.0
        return max(0.0, 1.0 - (value - at) / (edge - at))

    return strength


def in_between_knots(shapes: Iterable[Shape], parent: str) -> list[float]:
    """Where in-betweens of a shape stand, and nothing and the whole of it."""
    return sorted({0.0, 1.0, *(s.at for s in shapes if s.between == parent)})


def board_operations(builder: Builder, board: Board) -> list[Operation]:
    """The bead of a board drives the shapes of its pictures, and the controls that they pose: two operations, since what a control
    does may lead shapes itself."""
    bead = str(Ref.board(board.name))
    for channel, low, high in ((ACROSS, board.low[0], board.high[0]), (UP, board.low[1], board.high[1])):
        builder.new_channel(bead, channel, 0.0, low, high)
    across, up = builder.channels[(bead, ACROSS)], builder.channels[(bead, UP)]
    index = {n: builder.channels[(SHAPES, n)] for q in board.pictures for n in q.shapes}
    made = []
    if index:
        strengths = shape_strengths(board)

        def drive(state: State, values: Values) -> None:
            for shape, strength in strengths(values[across], values[up]).items():
                values[index[shape]] += strength

        words = f"the bead of the board {board.name} leads {len(index)} {'shape' if len(index) == 1 else 'shapes'}"
        made.append(Operation(words, (), (), drive, (bead,), drives=(SHAPES,), group=board.name))
    posed = [
        [(builder.channels[(c, k)], v) for c, given in q.pose.items() for k, v in given.items() if (c, k) in builder.channels]
        for q in board.pictures
    ]  # fmt: skip
    if any(posed):
        pictures, whole = picture_strengths(board), board.strength

        def pose(state: State, values: Values) -> None:
            for own, strength in zip(posed, pictures(values[across], values[up]), strict=True):
                for i, v in own:
                    values[i] += strength * whole * v

        controls = tuple(dict.fromkeys(c for q in board.pictures for c in q.pose))
        words = f"the bead of the board {board.name} poses {', '.join(controls)}"
        made.append(Operation(words, (), (), pose, (bead,), drives=controls, group=board.name))
    return made


def blend_operation(builder: Builder, shapes: tuple[Shape, ...]) -> Operation | None:
    """Combinations and in-betweens take their strength from the others', once these are settled."""
    ordered, _ = by_need(shapes)
    if not ordered:
        return None
    at = {s.name: builder.channels[(SHAPES, s.name)] for s in shapes}
    jobs: list[Callable[[Values], None]] = []
    for s in ordered:
        if s.of:
            jobs.append(_together(at[s.name], [at[n] for n in s.of]))
        if s.between:
            jobs.append(_partway(at[s.name], at[s.between], tent(s.at, in_between_knots(shapes, s.between))))

    def drive(state: State, values: Values) -> None:
        for job in jobs:
            job(values)

    words = f"{len(ordered)} {'shape comes' if len(ordered) == 1 else 'shapes come'} on with others"
    return Operation(words, (), (), drive, (SHAPES,), drives=(SHAPES,), group=GROUP)


def _together(own: int, others: list[int]) -> Callable[[Values], None]:
    """A combination is as strong as the product of its shapes, each counted from nothing to one."""

    def job(values: Values) -> None:
        strength = 1.0
        for i in others:
            strength *= min(max(values[i], 0.0), 1.0)
        values[own] += strength

    return job


def _partway(own: int, parent: int, strength: Callable[[float], float]) -> Callable[[Values], None]:
    def job(values: Values) -> None:
        values[own] += strength(values[parent])

    return job
