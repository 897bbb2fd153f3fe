"""What the stand-ins perform: a made-up person that sways, waves and sits down, and a made-up face that talks and looks about.

The suit streams BVH: the hierarchy first, then a row of numbers for each frame.  The face streams lines of JSON: strengths of action
units by number, where the eyes look (left and up, −1 to 1), and how far the lids are shut.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from math import pi, sin

import numpy as np

from ..core.formats.bvh import head_of
from ..core.motion.capture import Skeleton

SUIT_PORT, FACE_PORT = 7611, 7612
RATE = 60.0

# name, parent, offset (cm): a person of middling build, arms held out
BONES = (
    ("Pelvis", -1, (0, 0, 0)), ("Waist", 0, (0, 11, 0)), ("Ribs", 1, (0, 14, 0)), ("Nape", 2, (0, 24, -1)), ("Skull", 3, (0, 10, 2)),
    ("L_Clavicle", 2, (4, 19, 2)), ("L_Humerus", 5, (14, 0, -2)), ("L_Radius", 6, (28, 0, 0)), ("L_Hand", 7, (26, 0, 0)),
    ("R_Clavicle", 2, (-4, 19, 2)), ("R_Humerus", 9, (-14, 0, -2)), ("R_Radius", 10, (-28, 0, 0)), ("R_Hand", 11, (-26, 0, 0)),
    ("L_Femur", 0, (9, -3, 0)), ("L_Tibia", 13, (0, -43, 0)), ("L_Foot", 14, (0, -42, 0)), ("L_Toe", 15, (0, -6, 14)),
    ("R_Femur", 0, (-9, -3, 0)), ("R_Tibia", 17, (0, -43, 0)), ("R_Foot", 18, (0, -42, 0)), ("R_Toe", 19, (0, -6, 14)),
)  # fmt: skip
ENDS = {4: (0, 18, 0), 8: (17, 0, 0), 12: (-17, 0, 0), 16: (0, 0, 7), 20: (0, 0, 7)}
TURNS = (("turn", 2), ("turn", 0), ("turn", 1))
THIGH, SHIN, STANDS = 43.0, 42.0, 94.0  # cm


def person() -> Skeleton:
    """The skeleton that the suit streams."""
    moves = (("move", 0), ("move", 1), ("move", 2))
    return Skeleton(
        tuple(n for n, _, _ in BONES), tuple(p for _, p, _ in BONES), np.array([o for _, _, o in BONES], float),
        tuple((*(moves if p < 0 else ()), *TURNS) for _, p, _ in BONES), np.array(list(ENDS.values()), float), tuple(ENDS),
    )  # fmt: skip


def suit_row(time: float) -> list[float]:
    """The numbers of the moment `time` (seconds): a round of eight seconds, in which it sways, waves and sits half down."""
    turn = {n: [0.0, 0.0, 0.0] for n, _, _ in BONES}  # about z, x, y, degrees
    down = 35.0 * max(sin(2 * pi * time / 8.0), 0.0)  # how far the knees fold by half
    knee = 2 * down
    for side in "LR":
        turn[f"{side}_Femur"][1], turn[f"{side}_Tibia"][1], turn[f"{side}_Foot"][1] = -down, knee, -down
    sway = 4.0 * sin(2 * pi * time / 4.0)
    turn["Waist"][0], turn["Ribs"][0], turn["Skull"][0] = sway, sway, -2 * sway
    wave = max(sin(2 * pi * (time - 4.0) / 8.0), 0.0)
    turn["L_Humerus"][0], turn["R_Humerus"][0] = -70 + 120 * wave, 70.0
    turn["L_Radius"][0] = 40 * wave + 20 * wave * sin(2 * pi * 1.5 * time)
    turn["Skull"][2] = 15 * sin(2 * pi * time / 5.0)
    high = STANDS - (THIGH + SHIN) * (1 - np.cos(np.radians(down)))
    out = [0.0, float(high), 0.0]
    for n, _, _ in BONES:
        out += turn[n]
    return out


def suit_lines() -> Iterator[str]:
    """The stream's lines, a frame each once the hierarchy is told; without an end."""
    yield from head_of(person(), RATE)
    frame = 0
    while True:
        yield " ".join(f"{v:.4f}" for v in suit_row(frame / RATE))
        frame += 1


def face_lines() -> Iterator[str]:
    """A line of JSON for each frame; without an end."""
    frame = 0
    while True:
        t = frame / RATE
        talk = max(sin(2 * pi * t / 6.0), 0.0)
        opened = talk * (0.5 + 0.5 * sin(2 * pi * 3.1 * t)) * (0.6 + 0.4 * sin(2 * pi * 1.3 * t))
        shut = max(1.0 - abs((t % 3.7) - 3.5) / 0.12, 0.0)
        units = {
            "26": opened,
            "12": max(sin(2 * pi * (t - 3) / 6.0), 0.0),
            "1": 0.6 * max(sin(2 * pi * t / 5.0), 0.0),
            "18": 0.5 * talk * max(sin(2 * pi * 1.7 * t), 0.0),
        }
        yield json.dumps(
            {"time": round(t, 4), "units": {k: round(v, 4) for k, v in units.items()}, "gaze": [round(0.6 * sin(2 * pi * t / 4.0), 4), round(0.2 * sin(2 * pi * t / 3.0), 4)], "blink": round(shut, 4)}
        )  # fmt: skip
        frame += 1
