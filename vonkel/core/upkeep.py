"""What follows from a change, made true again: run once after every step, whatever the step was.

A step changes what it is about.  That channels of a space go with it, that rules lose what they spoke of, and that
controls stand where their joints now are, is nobody's business but this room's.
"""

from __future__ import annotations

from collections.abc import Callable
from operator import is_

import numpy as np

from .character import Board, Character
from .character.references import things_of, without, without_channels
from .motion import without_tracks
from .rig.blends import comes_from
from .rig.fitting import with_controls_anew

Job = Callable[[Character, Character], Character]


def kept_up(after: Character, before: Character) -> Character:
    """`after`, which a step made of `before`, with all that follows from the change."""
    for job in JOBS:
        after = job(after, before)
    return after


def drop_unwanted_channels(after: Character, before: Character) -> Character:
    """Channels that only a rule wanted, and that no rule wants any longer."""
    if after.rules is before.rules:
        return after
    unwanted = _wanted(before) - _wanted(after)
    if not unwanted:
        return after
    controls = tuple(
        c.model_copy(update={"channels": tuple(k for k in c.channels if (c.name, k.name) not in unwanted)})
        if any((c.name, k.name) in unwanted for k in c.channels)
        else c
        for c in after.controls
    )
    return after.with_(controls=controls)


def _wanted(character: Character) -> set[tuple[str, str]]:
    return {(c, n) for r in character.rules for c, names in r.wanted_channels().items() for n in names}


def lose_what_is_gone(after: Character, before: Character) -> Character:
    """Rules lose the things and channels that went, and go where nothing is left of them."""
    if not after.rules or (
        after.joints is before.joints and after.controls is before.controls and after.shapes is before.shapes
    ):
        return after
    was, now = things_of(before), things_of(after)
    after = without(after, was.things - now.things)
    gone = {c: names - now.channels[c] for c, names in was.channels.items() if c in now.channels}
    return without_channels(after, {c: names for c, names in gone.items() if names})


def let_shapes_go(after: Character, before: Character) -> Character:
    """Shapes, boards and clips lose the shapes, regions and boards that went; a combination goes with any of its own."""
    if after.shapes is before.shapes and after.regions is before.regions and after.boards is before.boards:
        return after
    known = {r.name for r in after.regions}
    shapes = after.shapes
    while True:
        names = {s.name for s in shapes}
        left = tuple(s for s in shapes if set(comes_from(s)) <= names)
        if len(left) == len(shapes):
            break
        shapes = left
    gone = {s.name for s in after.shapes} - names
    arrays: dict[str, np.ndarray | None] = {f"shape/{n}/{k}": None for n in gone for k in ("points", "moves")}
    shapes = tuple(s if s.region in known or not s.region else s.model_copy(update={"region": ""}) for s in shapes)
    if any(set(k.shapes.values()) - names for k in after.kits):
        kits = (k.model_copy(update={"shapes": {w: s for w, s in k.shapes.items() if s in names}}) for k in after.kits)
        after = after.with_(kits=tuple(kits))
    boards = tuple(_board_of(b, names, known) for b in after.boards)
    if boards != after.boards or shapes != after.shapes or arrays:
        after = after.with_(boards=boards, shapes=shapes, arrays=arrays)
    return without_tracks(after)


def _board_of(board: Board, shapes: set[str], regions: set[str]) -> Board:
    """The board with what is left of its pictures: one goes with the last of its shapes."""
    left = []
    for q in board.pictures:
        held = {n: v for n, v in q.shapes.items() if n in shapes}
        if held or not q.shapes:
            left.append(q if len(held) == len(q.shapes) else q.model_copy(update={"shapes": held}))
    region = board.region if board.region in regions else ""
    if region == board.region and len(left) == len(board.pictures) and all(map(is_, left, board.pictures)):
        return board
    return board.model_copy(update={"pictures": tuple(left), "region": region})


def drop_loose_pictures(after: Character, before: Character) -> Character:
    """Files of a board's pictures go with these."""
    wanted = {f"board/{b.name}/{q.key}" for b in after.boards for q in b.pictures if q.own}
    loose = {n for n in after.arrays if n.startswith("board/")} - wanted
    return after.with_(arrays=dict.fromkeys(loose)) if loose else after


def make_controls_anew(after: Character, before: Character) -> Character:
    """The controls of kits whose joints, or the bones above them, moved, turned or may turn otherwise now.

    Not of kits that the step put on, nor of those whose controls it carried along itself.
    """
    if after.joints is before.joints:
        return after
    old = {j.name: j for j in before.joints}
    moved = {j.name for j in after.joints if old.get(j.name) != j}
    moved |= {after.joint(n).parent or n for n in moved}
    was = {c.name: (c.place, c.turn) for c in before.controls}
    known = {k.name for k in before.kits}
    settled = {c.kit for c in after.controls if was.get(c.name, (c.place, c.turn)) != (c.place, c.turn)}
    stale = {
        k.name
        for k in after.kits
        if k.name in known - settled and any(n in moved for names in k.joints.values() for n in names)
    }
    return with_controls_anew(after, stale) if stale else after


def unlock_what_is_gone(after: Character, before: Character) -> Character:
    """Locks go with the holders that they were on."""
    skin = after.skin
    if skin is None or skin is before.skin or set(skin.locked) <= set(skin.joints):
        return after
    return after.with_(skin=skin.model_copy(update={"locked": tuple(n for n in skin.locked if n in skin.joints)}))


def drop_what_went_out(after: Character, before: Character) -> Character:
    """The skin that goes out goes where it can't be of this mesh or these joints any more."""
    skin = after.skin
    if "handed/joints" not in after.arrays and (skin is None or skin.handed is None):
        return after
    known = set(after.joint_index)
    if (
        skin is not None
        and skin.handed is not None
        and len(after.arrays.get("handed/joints", ())) == len(after.points)
        and before.skin is not None
        and len(before.skin.joints) == len(skin.joints)
        and all({h.a, h.b} <= known and h.name not in known for h in skin.handed.between)
        and all(t.joint in known for t in skin.handed.correctives)
    ):
        return after
    gone: dict[str, np.ndarray | None] = {n: None for n in after.arrays if n.startswith("handed/")}
    return after.with_(skin=skin and skin.model_copy(update={"handed": None}), arrays=gone)


JOBS: tuple[Job, ...] = (
    drop_unwanted_channels,
    let_shapes_go,
    drop_loose_pictures,
    lose_what_is_gone,
    make_controls_anew,
    unlock_what_is_gone,
    drop_what_went_out,
)
"""In their order: channels go with their rules before rules lose what went."""
