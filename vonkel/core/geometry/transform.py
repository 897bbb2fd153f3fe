"""Moving, turning and scaling a whole character, settled into its points."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..character import Channel, Character
from .rotations import matrix_from_quaternion, quaternion_from_matrix

UPRIGHT = {
    "y": np.eye(3),
    "-y": np.diag([1.0, -1.0, -1.0]),
    "z": np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]),
    "-z": np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]),
    "x": np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]),
    "-x": np.array([[0.0, 1, 0], [-1, 0, 0], [0, 0, 1]]),
}
"""What turns a model upright whose axis of that name points up."""


def transformed(character: Character, matrix: np.ndarray, offset: np.ndarray) -> Character:
    """Everything mapped by p → matrix · p + offset; `matrix` (3, 3) is a rotation times one scale.

    Points, joints, controls with their outlines and limits, shapes and saved poses' places all follow; nothing keeps a
    transform of its own.  Kits' options that are lengths are theirs to size: `rig.kits.sized_kits`.
    """
    scale = float(np.cbrt(np.linalg.det(matrix)))
    rotation = matrix / scale

    def place(p: tuple[float, ...]) -> tuple[float, ...]:
        return tuple(float(x) for x in matrix @ np.array(p) + offset)

    def turn(q: tuple[Any, ...]) -> tuple[float, ...]:
        return tuple(float(x) for x in quaternion_from_matrix(rotation @ matrix_from_quaternion(q)))

    unturned = np.allclose(rotation, np.eye(3))
    joints = tuple(
        j.model_copy(update={"place": place(j.place), "turn": j.turn if unturned else turn(j.turn)})
        for j in character.joints
    )
    controls = tuple(
        c.model_copy(
            update={
                "channels": c.channels if scale == 1.0 else tuple(_channel_sized(k, scale) for k in c.channels),
                "place": place(c.place), "turn": c.turn if unturned else turn(c.turn),
                "outline": tuple(tuple(scale * x for x in v) for v in c.outline),
            }
        )
        for c in character.controls
    )  # fmt: skip
    kits = tuple(
        k.model_copy(update={"places": {n: place(p) for n, p in k.places.items()}}) if k.places else k
        for k in character.kits
    )
    rules = character.rules if scale == 1.0 else tuple(r.sized(scale) for r in character.rules)
    poses = tuple(
        p.model_copy(
            update={
                "values": {
                    c: {k: v * scale if k.startswith("move ") else v for k, v in given.items()}
                    for c, given in p.values.items()
                }
            }
        )
        for p in character.poses
    )
    parts = tuple(
        p if p.carried is None else p.model_copy(update={"carried": _carried(p.carried, matrix, offset)})
        for p in character.parts
    )
    face = character.face
    if face is not None:
        made = {k: {n: place(p) for n, p in marks.items()} for k, marks in face.made.items()}
        marks = tuple(m.model_copy(update={"place": place(m.place)}) for m in face.marks)
        face = face.model_copy(update={"marks": marks, "made": made})
    pictures = character.pictures
    if scale != 1.0:
        pictures = tuple(
            q.model_copy(update={"width": q.width * scale, "place": (q.place[0] * scale, q.place[1] * scale)})
            for q in pictures
        )
    arrays: dict[str, np.ndarray | None] = {"points": character.points @ matrix.T + offset}
    for s in character.shapes:
        key = f"shape/{s.name}/moves"
        arrays[key] = (character.arrays[key] @ matrix.T).astype(np.float32)
    return character.with_(
        parts=parts,
        joints=joints,
        face=face,
        controls=controls,
        kits=kits,
        rules=rules,
        poses=poses,
        pictures=pictures,
        arrays=arrays,
    )


def _channel_sized(channel: Channel, scale: float) -> Channel:
    """A move's limits and rest are in metres."""
    if channel.kind != "move":
        return channel
    low, high = (None if v is None else v * scale for v in (channel.low, channel.high))
    return channel.model_copy(update={"low": low, "high": high, "rest": channel.rest * scale})


def _carried(old: tuple[float, ...], matrix: np.ndarray, offset: np.ndarray) -> tuple[float, ...]:
    m = np.array(old).reshape(3, 4)
    return tuple(float(x) for x in np.c_[matrix @ m[:, :3], matrix @ m[:, 3] + offset].ravel())
