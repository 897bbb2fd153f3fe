"""Where walks begin: small meshes with and without a rig."""

from __future__ import annotations

import numpy as np

from tests.conftest import tube
from tests.fuzz.seeds import rigged, tail
from vonkel.core.character import Character, Joint
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.joints.orient import turn_down_bones
from vonkel.steps import apply_step


def two_sided() -> Character:
    """A cross bar with an arm of three joints on either side, limbs put on."""
    mesh = tube(rings=17, around=8, axis=0)
    mesh.points[:, 0] -= 0.5
    c = character_from_mesh(mesh, "bar")
    joints = [Joint(name="root", place=(0.0, 0.0, 0.0), role="hips")]
    for side, sign in (("L", 1.0), ("R", -1.0)):
        above = "root"
        for i, (role, x, z) in enumerate((("upper_arm", 0.1, 0.0), ("forearm", 0.25, -0.02), ("hand", 0.4, 0.0))):
            name = f"{role}_{side}"
            joints.append(Joint(name=name, parent=above, side=side, place=(sign * x, 0.0, z), role=role))  # type: ignore[arg-type]
            above = name
            del i
    c = turn_down_bones(c.with_(joints=tuple(joints)))
    for side in "LR":
        kit = {"upper": [f"upper_arm_{side}"], "middle": [f"forearm_{side}"], "end": [f"hand_{side}"]}
        c, _ = apply_step(c, "limbs.add_kit", {"kind": "arm", "name": "arm", "joints": kit, "both_sides": False})
    return c


def boxes() -> Character:
    """Two boxes and a drawn line, in three parts."""
    corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float) * 0.3
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    points = np.concatenate([corners, corners + [0.5, 0, 0], [[0, 0.4, 0], [0.1, 0.5, 0], [0.2, 0.4, 0]]])
    faces = quads + [[v + 8 for v in q] for q in quads]
    mesh = RawMesh(
        points, np.arange(0, 4 * len(faces) + 1, 4), np.array(faces).ravel(), np.repeat([0, 1], 6), ["left", "right", "brow"],
        lines=[[16, 17, 18]], line_piece=[2],
    )  # fmt: skip
    return character_from_mesh(mesh, "boxes")


def small() -> list[Character]:
    return [rigged(), tail(), two_sided(), boxes()]
