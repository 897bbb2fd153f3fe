"""Steps of picture boards."""

from __future__ import annotations

import math
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ..core.character import Board, BoardPicture, Character, Curve, Name, Ref, unique_name
from ..core.character.boards import FARTHEST
from ..core.character.references import renamed
from ..core.errors import BadParameters, NotFound, StepRefused
from ..core.formats.pictures import picture_size
from ..core.motion.jumps import jumped
from .registry import Array, Params, step

Step = Annotated[float, Field(ge=-FARTHEST, le=FARTHEST)]
Title = Annotated[Name, Field(max_length=60)]


def _with(character: Character, board: Board) -> Character:
    """The character with that board in its own place, wide enough for its pictures."""
    places = np.array([(0.0, 0.0), *(q.place for q in board.pictures)])
    low, high = np.minimum(board.low, places.min(0)), np.maximum(board.high, places.max(0))
    board = board.model_copy(update={"low": tuple(low.tolist()), "high": tuple(high.tolist())})
    return character.with_(boards=tuple(board if b.name == board.name else b for b in character.boards))


def laid_out(count: int) -> list[tuple[float, float]]:
    """Places of pictures round the middle, a step and more apart: the eight round it first, then the next ring out."""
    out: list[tuple[float, float]] = []
    ring = 1
    while len(out) < count:
        cells = [
            (x, y) for y in range(ring, -ring - 1, -1) for x in range(-ring, ring + 1) if max(abs(x), abs(y)) == ring
        ]
        cells.sort(key=lambda p: (p[0] != 0 and p[1] != 0, math.hypot(*p), -p[1], p[0]))
        out += [(float(x), float(y)) for x, y in cells]
        ring += 1
    return out[:count]


class MakeBoard(Params):
    name: Title
    region: str = Field("", max_length=80)
    shapes: list[str] = Field([], max_length=63, description="a picture for each; none: all shapes of the region")
    corners: bool = Field(
        False, description="a square with four shapes in its corners: top left, top right, below left, below right"
    )


CORNERS = [(-1.0, 1.0), (1.0, 1.0), (-1.0, -1.0), (1.0, -1.0)]


@step("boards.make", MakeBoard, lambda c, p: f"Made the board {p.name}")
def make(character: Character, p: MakeBoard) -> Character:
    """Make a board: the face at rest in the middle, a picture of each shape round it."""
    known = {s.name: s for s in character.shapes}
    lost = [n for n in p.shapes if n not in known]
    if lost:
        raise NotFound(f"There is no shape called “{lost[0]}”.", p.name, "Choose from the list.")
    of_region = [n for n, s in known.items() if (s.region == p.region or not p.region) and not s.of and not s.between]
    shapes = (p.shapes or of_region)[:63]
    if not shapes:
        raise StepRefused("There is no shape to show.", p.name, "Sculpt some, and say that they are of this region.")
    if p.corners and len(shapes) != 4:
        raise StepRefused(f"A square has four corners, not {len(shapes)}.", p.name, "Say which four shapes.")
    places = CORNERS if p.corners else laid_out(len(shapes))
    pictures = [BoardPicture(key="rest", place=(0.0, 0.0))]
    pictures += [
        BoardPicture(key=f"p{i}", shapes={n: 1.0}, place=place)
        for i, (n, place) in enumerate(zip(shapes, places, strict=True), 1)
    ]
    taken = {b.name for b in character.boards}
    row = len(taken)
    board = Board(
        name=unique_name(p.name, taken), region=p.region, pictures=tuple(pictures), blend="corners" if p.corners else "near",
        spot=(0.02 + 0.03 * (row % 8), 0.05 + 0.05 * (row % 8)),
    )  # fmt: skip
    return _with(character.with_(boards=(*character.boards, board)), board)


class OfBoard(Params):
    board: str


class EditBoard(OfBoard):
    name: str = Field("", max_length=60)
    region: str | None = Field(None, max_length=80)
    curve: Curve | None = Field(None, description="from the distance, steps, to the strength")
    snap: Literal["none", "whole", "half", "third", "quarter"] | None = None
    blend: Literal["near", "corners"] | None = Field(
        None, description="by nearness, or between a square's four corners"
    )
    strength: float | None = Field(None, ge=0, le=3, description="one for all of its pictures")
    shared: bool | None = Field(None, description="pictures that together come to more than one share it")
    spot: tuple[float, float] | None = Field(None, description="where it is drawn, share of the plate")
    size: float | None = Field(None, ge=0.05, le=2, description="how large it is drawn, share of the plate's height")


@step("boards.set", EditBoard, lambda c, p: f"Set the board {p.board}", renames=True)
def edit(character: Character, p: EditBoard) -> Character:
    """Name a board, say how strength fades with distance and where the bead may stand, or draw it elsewhere."""
    said = p.model_dump(exclude={"board", "name", "curve"}, exclude_none=True)
    if p.curve is not None:
        if p.curve.past != "hold" or p.curve.keys[0].at < 0 or abs(p.curve.keys[-1].value) > 1e-9:
            raise BadParameters(
                "Strength must come to nothing at the last key, and stay there.", p.board, "Bring its end down to 0."
            )
        said["curve"] = p.curve
    board = Board.model_validate(character.board(p.board).model_copy(update=said).model_dump())
    result = _with(character, board)
    if p.name and p.name != p.board:
        if p.name in {b.name for b in character.boards}:
            raise BadParameters(f"There is a board called “{p.name}” already.", p.board, "Choose another name.")
        Board.model_validate({"name": p.name})
        result = renamed(result, {Ref.board(p.board): Ref.board(p.name)})
    return result


class Move(OfBoard):
    places: dict[str, tuple[Step, Step]] = Field(
        min_length=1, max_length=64, description="picture's key → place, steps"
    )


@step("boards.move", Move, lambda c, p: f"Moved {len(p.places)} of the pictures of {p.board}")
def move(character: Character, p: Move) -> Character:
    """Move pictures over a board."""
    board = character.board(p.board)
    lost = p.places.keys() - {q.key for q in board.pictures}
    if lost:
        raise NotFound(f"The board has no picture “{min(lost)}”.", p.board, "Choose one that is on it.")
    pictures = tuple(
        q.model_copy(update={"place": p.places[q.key]}) if q.key in p.places else q for q in board.pictures
    )
    return _with(character, board.model_copy(update={"pictures": pictures}))


class AddPicture(OfBoard):
    shapes: dict[str, Annotated[float, Field(ge=-3, le=3)]] = Field(
        {}, max_length=200, description="none: the face at rest"
    )
    place: tuple[Step, Step] = (0.0, 0.0)
    picture: Array | None = Field(None, description="the bytes of a PNG or JPEG file; none: drawn from the character")


@step("boards.add", AddPicture, lambda c, p: f"Put {', '.join(p.shapes) or 'the face at rest'} on the board {p.board}")
def add(character: Character, p: AddPicture) -> Character:
    """Put a picture on a board, of a shape or of several together."""
    board = character.board(p.board)
    key = next(k for i in range(1, 100) if (k := f"p{i}") not in {q.key for q in board.pictures})
    picture = BoardPicture(key=key, shapes=p.shapes, place=p.place, own=p.picture is not None)
    result = _with(character, board.model_copy(update={"pictures": (*board.pictures, picture)}))
    return result if p.picture is None else _pictured(result, board.name, key, p.picture)


class OwnPicture(OfBoard):
    key: str
    picture: Array | None = Field(
        None, description="the bytes of a PNG or JPEG file; none: drawn from the character again"
    )


@step("boards.picture", OwnPicture, lambda c, p: f"Gave {p.key} of the board {p.board} another picture")
def picture(character: Character, p: OwnPicture) -> Character:
    """Show a picture of one's own on a board."""
    board = character.board(p.board)
    if p.key not in {q.key for q in board.pictures}:
        raise NotFound(f"The board has no picture “{p.key}”.", p.board, "Choose one that is on it.")
    pictures = tuple(
        q.model_copy(update={"own": p.picture is not None}) if q.key == p.key else q for q in board.pictures
    )
    result = _with(character, board.model_copy(update={"pictures": pictures}))
    return result if p.picture is None else _pictured(result, p.board, p.key, p.picture)


def _pictured(character: Character, board: str, key: str, file: np.ndarray) -> Character:
    if file.dtype != np.uint8 or file.ndim != 1:
        raise BadParameters("A picture is the bytes of a file.", board, "Send a PNG or JPEG file.")
    picture_size(file.tobytes(), board)
    return character.with_(arrays={f"board/{board}/{key}": file})


class OffBoard(OfBoard):
    key: str


@step("boards.take", OffBoard, lambda c, p: f"Took a picture off the board {p.board}")
def take(character: Character, p: OffBoard) -> Character:
    """Take a picture off a board; the shapes stay."""
    board = character.board(p.board)
    left = tuple(q for q in board.pictures if q.key != p.key)
    if len(left) == len(board.pictures):
        raise NotFound(f"The board has no picture “{p.key}”.", p.board, "Choose one that is on it.")
    return _with(character, board.model_copy(update={"pictures": left}))


@step("boards.remove", OfBoard, lambda c, p: f"Deleted the board {p.board}")
def remove(character: Character, p: OfBoard) -> Character:
    """Delete a board; its shapes stay."""
    character.board(p.board)
    return character.with_(boards=tuple(b for b in character.boards if b.name != p.board))


class Jump(Params):
    clip: str
    board: str
    start: int = Field(ge=0)
    end: int = Field(ge=1)


@step("boards.jump", Jump, lambda c, p: f"Let the bead of {p.board} jump in {p.clip}, frames {p.start} to {p.end}")
def jump(character: Character, p: Jump) -> Character:
    """Let a bead hold still in a motion and then jump, so that it passes over no other picture."""
    character.board(p.board)
    return jumped(character, p.clip, p.board, p.start, p.end)
