"""Joints made again on the other side."""

from __future__ import annotations

import numpy as np

from ..character import Character, opposite, opposite_name
from ..character.hierarchy import descendants, parents_first
from ..errors import StepRefused
from ..geometry.rotations import matrix_from_quaternion
from .freedom import mirrored_freedom
from .orient import MIRROR, Manner, partner_axes, partner_values, turned


def mirror_joints(character: Character, top: str, manner: Manner = "counter") -> Character:
    """Make (or set) the partners of `top` and all below it on the other side, names, turns and freedoms mirrored."""
    names = [top, *descendants(character, top)]
    first = character.joint(top)
    if first.side == "C":
        raise StepRefused(f"{top} stands in the middle.", character.name, "Mirror a joint of one side.")
    result = {j.name: j for j in character.joints}
    for n in names:
        j = character.joint(n)
        other = opposite_name(n)
        if other == n:
            raise StepRefused(f"{n} has no side in its name.", character.name, "End its name in _L or _R.")
        above = j.parent
        if above and (above in names or opposite_name(above) in character.joint_index):
            above = opposite_name(above)
        axes = matrix_from_quaternion(j.turn)
        new_axes = partner_axes(axes, j.hinge, manner)
        x, y, z = np.array(j.place) * MIRROR
        made = j.model_copy(
            update={
                "name": other, "side": opposite(j.side), "place": (float(x), float(y), float(z)), "parent": above,
                "freedom": mirrored_freedom(j.freedom, partner_values(axes, new_axes)),
            }
        )  # fmt: skip
        result[other] = turned(made, new_axes)
    return character.with_(joints=tuple(parents_first(result.values())))
