"""BVH: a skeleton and one motion of it, as plain text.

At rest every joint's axes are the world's, so a frame's turns are those of the joints against their parents' since rest, about Z,
then X, then Y (each about the axes turned so far).  Centimetres and degrees, as such files usually have them.  A joint that only turns in
its parent has three channels and its offset; the root, and what moves in its parent, six and no offset: readers differ in whether a
place is laid onto the offset or stands for it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from ..geometry.rotations import matrix_from_quaternion
from ..motion.capture import Skeleton
from .scene import Node, Scene, Take

UNIT = 100.0  # centimetres in a metre
STILL = 1e-6  # of the skeleton's size: a joint that moves less in its parent only turns
TURNS = "Zrotation Xrotation Yrotation"
MOVES = "Xposition Yposition Zposition"


@dataclass(frozen=True)
class _Bones:
    """Joints alone: rows of the scene's nodes (−1: what several trees hang from), their parents among them (−1: none), rest places (j, 3) and turns (j, 3, 3) in space."""

    rows: list[int]
    parents: list[int]
    places: np.ndarray
    turns: np.ndarray


def write(scene: Scene) -> bytes:
    """The skeleton with the scene's first motion; without one, at rest for one frame.  Joints in several trees hang from one root."""
    world = _worlds(scene.nodes, np.array([n.place for n in scene.nodes]), np.array([n.turn for n in scene.nodes]))
    bones = _bones(scene.nodes, world)
    take = scene.takes[0] if scene.takes else None
    moves, turns = _motion(scene, bones, take)
    size = max(float(np.ptp(bones.places, axis=0).max()), 1e-9) if len(bones.places) else 1.0
    offsets = _offsets(bones)
    six = np.abs(moves - offsets).max((0, 2)) > STILL * size
    six |= np.array(bones.parents) < 0
    names = _names([scene.nodes[r].joint if r >= 0 else scene.name for r in bones.rows])
    offsets[six] = 0.0
    lines = ["HIERARCHY"]
    order: list[int] = []
    if bones.rows:
        _described(bones.parents.index(-1), bones, names, offsets, six, lines, order, 0)
    pace = float(take.times[1] - take.times[0]) if take is not None and len(take.times) > 1 else 1 / 30
    angles = Rotation.from_matrix(turns.reshape(-1, 3, 3)).as_euler("ZXY", degrees=True).reshape(*turns.shape[:2], 3)
    columns = []
    for k in order:
        if six[k]:
            columns.append(UNIT * moves[:, k])
        columns.append(angles[:, k])
    table = np.concatenate(columns, axis=1) if columns else np.zeros((len(moves), 0))
    lines += ["MOTION", f"Frames: {len(table)}", f"Frame Time: {pace:.8f}"]
    lines += [" ".join(f"{x:.6f}" for x in row) for row in table + 0.0]
    return ("\n".join(lines) + "\n").encode()


def _worlds(nodes: tuple[Node, ...], places: np.ndarray, turns: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) and turns (n, 3, 3) in space, of nodes' own in their parents."""
    local = matrix_from_quaternion(turns)
    p, r = np.zeros((len(nodes), 3)), np.zeros((len(nodes), 3, 3))
    for i, node in enumerate(nodes):  # parents come first
        if node.parent < 0:
            p[i], r[i] = places[i], local[i]
        else:
            p[i], r[i] = p[node.parent] + r[node.parent] @ places[i], r[node.parent] @ local[i]
    return p, r


def _bones(nodes: tuple[Node, ...], world: tuple[np.ndarray, np.ndarray]) -> _Bones:
    rows = [i for i, n in enumerate(nodes) if n.joint]
    number = {r: k for k, r in enumerate(rows)}
    parents = []
    for r in rows:
        up = nodes[r].parent
        while up >= 0 and up not in number:
            up = nodes[up].parent
        parents.append(number[up] if up >= 0 else -1)
    places, turns = world[0][rows], world[1][rows]
    if parents.count(-1) > 1:
        rows, parents = [-1, *rows], [-1, *(p + 1 if p >= 0 else 0 for p in parents)]
        places, turns = np.vstack([np.zeros((1, 3)), places]), np.concatenate([np.eye(3)[None], turns])
    return _Bones(rows, parents, places, turns)


def _offsets(bones: _Bones) -> np.ndarray:
    return np.array(
        [p - (bones.places[up] if up >= 0 else 0.0) for p, up in zip(bones.places, bones.parents, strict=True)]
    ).reshape(-1, 3)


def _motion(scene: Scene, bones: _Bones, take: Take | None) -> tuple[np.ndarray, np.ndarray]:
    """Places (f, j, 3) and turns (f, j, 3, 3) of each joint in its parent, whose axes at rest are the world's."""
    if take is None:
        return _offsets(bones)[None], np.eye(3)[None, None].repeat(len(bones.rows), 1)
    moves, turns = [], []
    for places, quaternions in zip(take.places, take.turns, strict=True):
        p, r = _worlds(scene.nodes, places, quaternions)
        p = np.array([p[i] if i >= 0 else np.zeros(3) for i in bones.rows])
        r = np.array([r[i] if i >= 0 else np.eye(3) for i in bones.rows])
        since = r @ np.swapaxes(bones.turns, 1, 2)
        move, turn = p.copy(), since.copy()
        for k, up in enumerate(bones.parents):
            if up >= 0:
                move[k], turn[k] = since[up].T @ (p[k] - p[up]), since[up].T @ since[k]
        moves.append(move)
        turns.append(turn)
    return np.array(moves), np.array(turns)


def _names(joints: list[str]) -> list[str]:
    """Names without blanks, each once."""
    out: list[str] = []
    for joint in joints:
        name = "_".join(joint.split()) or "joint"
        while name in out:
            name += "_"
        out.append(name)
    return out


def _described(
    k: int, bones: _Bones, names: list[str], offsets: np.ndarray, six: np.ndarray, lines: list[str], order: list[int], deep: int
) -> None:  # fmt: skip
    pad = "\t" * deep
    kids = [i for i, p in enumerate(bones.parents) if p == k]
    order.append(k)
    lines.append(f"{pad}{'ROOT' if deep == 0 else 'JOINT'} {names[k]}")
    lines.append(f"{pad}{{")
    lines.append(f"{pad}\tOFFSET {_told(offsets[k])}")
    lines.append(f"{pad}\tCHANNELS 6 {MOVES} {TURNS}" if six[k] else f"{pad}\tCHANNELS 3 {TURNS}")
    for kid in kids:
        _described(kid, bones, names, offsets, six, lines, order, deep + 1)
    if not kids:  # a bone must end somewhere: half as far on as it came
        lines += [
            f"{pad}\tEnd Site",
            f"{pad}\t{{",
            f"{pad}\t\tOFFSET {_told(0.5 * offsets[k] * (deep > 0))}",
            f"{pad}\t}}",
        ]
    lines.append(f"{pad}}}")


def _told(v: np.ndarray) -> str:
    return " ".join(f"{x:.6f}" for x in UNIT * v + 0.0)


def head_of(skeleton: Skeleton, rate: float) -> list[str]:
    """The lines before the frames' rows: a capture's hierarchy in its own unit, and the pace.  How many frames come isn't known."""
    ends = dict(zip(skeleton.end_of, skeleton.ends, strict=True))
    lines = ["HIERARCHY"]

    def numbers(v: np.ndarray) -> str:
        return " ".join(f"{x:g}" for x in v)

    def told(k: int, deep: int) -> None:
        pad, words = "\t" * deep, {"move": "position", "turn": "rotation"}
        channels = [f"{'XYZ'[axis]}{words[kind]}" for kind, axis in skeleton.channels[k]]
        lines.append(f"{pad}{'JOINT' if deep else 'ROOT'} {'_'.join(skeleton.names[k].split())}")
        lines.extend(
            [
                f"{pad}{{",
                f"{pad}\tOFFSET {numbers(skeleton.offsets[k])}",
                f"{pad}\tCHANNELS {len(channels)} {' '.join(channels)}",
            ]
        )
        for kid in skeleton.kids[k]:
            told(kid, deep + 1)
        if k in ends or not skeleton.kids[k]:
            lines.extend(
                [f"{pad}\tEnd Site", f"{pad}\t{{", f"{pad}\t\tOFFSET {numbers(ends.get(k, np.zeros(3)))}", f"{pad}\t}}"]
            )
        lines.append(f"{pad}}}")

    told(0, 0)
    return [*lines, "MOTION", f"Frame Time: {1 / rate:.8f}"]
