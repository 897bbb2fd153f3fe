"""Findings of the Shapes station."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from ...core.character import Character
from ...core.character.boards import shape_strengths
from ...core.motion.jumps import passings
from ...core.shapes.checks import Fault, shape_faults
from ...core.shapes.rims import unevenness
from .kinds import Finding, Mend, length

UNEVEN_BAND = 0.25  # spread of how much a band's edges are stretched, as logarithms


def _empty(c: Character, f: Fault) -> Finding:
    return Finding(
        station="shapes", level="should", title=f"{f.shape} moves nothing",
        detail="Sculpt it, or take it away.", mend=Mend(label="Delete it", step="shapes.remove", params={"shape": f.shape}),
    )  # fmt: skip


def _double(c: Character, f: Fault) -> Finding:
    return Finding(
        station="shapes", level="should", title=f"{f.shape} is {f.other} again",
        detail="Both move the same points alike.",
        mend=Mend(label=f"Delete {f.shape}", step="shapes.remove", params={"shape": f.shape}),
    )  # fmt: skip


def _trespass(c: Character, f: Fault) -> Finding:
    return Finding(
        station="shapes", level="should", title=f"{f.shape} moves more than {f.other}", points=list(f.points),
        detail=f"Outside its region it moves points by up to {length(f.amount)}.",
        mend=Mend(label="Cut that off", step="shapes.cut", params={"shape": f.shape}),
    )  # fmt: skip


def _uneven(c: Character, f: Fault) -> Finding:
    return Finding(
        station="shapes", level="should", title=f"{f.shape} isn't the same on both sides", points=list(f.points),
        detail=f"It claims to be, and differs by up to {length(f.amount)}.",
        mend=Mend(label="Make it so, as its left", step="shapes.alike", params={"shape": f.shape, "side": "left"}),
    )  # fmt: skip


def _wild(c: Character, f: Fault) -> Finding:
    many = len(f.points)
    return Finding(
        station="shapes", level="must", points=list(f.points),
        title=f"{f.shape} has {'a wild point' if many == 1 else f'{many} wild points'}",
        detail=f"Up to {length(f.amount)} from where the points round {'it' if many == 1 else 'them'} go.",
        mend=Mend(label="Let them go with the others", step="shapes.settle", params={"shape": f.shape, "points": list(f.points)}),
    )  # fmt: skip


def _unreachable(c: Character, f: Fault) -> Finding:
    return Finding(
        station="shapes", level="should", title=f"{f.shape} is never wholly on",
        detail=f"{f.other} doesn't get there ({f.amount:.2f}). Widen its limits, or let the shape come on earlier.",
    )  # fmt: skip


WORDS: dict[str, Callable[[Character, Fault], Finding]] = {
    "empty": _empty, "double": _double, "trespass": _trespass, "uneven": _uneven, "wild": _wild,
    "unreachable": _unreachable,
}  # fmt: skip


def shape_findings(c: Character) -> Iterator[Finding]:
    for fault in shape_faults(c):
        yield WORDS[fault.kind](c, fault)
    yield from _rims(c)
    yield from _not_at_rest(c)
    for p in passings(c):
        yield Finding(
            station="shapes", level="note", title=f"In {p.clip} the bead of {p.board} flashes a picture",
            detail=f"From frame {p.start} to {p.end} it passes over {_picture(c, p.board, p.key)}, at most {p.strength:.2f} of it. "
            "Held, it jumps.",
            mend=Mend(
                label="Let it jump", step="boards.jump",
                params={"clip": p.clip, "board": p.board, "start": p.start, "end": p.end},
            ),
        )  # fmt: skip


def _not_at_rest(c: Character) -> Iterator[Finding]:
    """Boards whose bead at rest turns shapes up."""
    for board in c.boards:
        on = [n for n, v in shape_strengths(board)(0.0, 0.0).items() if abs(v) > 1e-6]
        if on:
            yield Finding(
                station="shapes", level="should", title=f"The board {board.name} shows {' and '.join(on[:3])} at rest",
                detail="Its bead rests in the middle, where that picture reaches. Move the picture a step away.",
            )  # fmt: skip


def _picture(c: Character, board: str, key: str) -> str:
    shown = next(q for q in c.board(board).pictures if q.key == key)
    return " and ".join(shown.shapes) or "the face at rest"


def _rims(c: Character) -> Iterator[Finding]:
    for region in c.regions:
        if not region.rim:
            continue
        for shape in c.shapes:
            uneven = unevenness(c, shape.name, region.name)
            if uneven > UNEVEN_BAND:
                yield Finding(
                    station="shapes", level="should", title=f"{region.name} is an uneven band in {shape.name}",
                    points=c.arrays[f"region/{region.name}/points"][:400].tolist(),
                    detail=f"Its edges are stretched unlike one another, by {uneven:.2f}.",
                    mend=Mend(label="Even it", step="shapes.rim", params={"shape": shape.name, "region": region.name}),
                )  # fmt: skip
