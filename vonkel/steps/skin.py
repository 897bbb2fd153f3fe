"""Steps of the Skin station."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from ..core.character import Character
from ..core.errors import StepRefused
from ..core.skin.bind import bind_skin
from .registry import Params, step


class Bind(Params):
    influences: int = Field(4, ge=1, le=8, description="the most joints that may hold a point; engines want 4")
    falloff: float = Field(5.0, ge=1.0, le=12.0, description="how fast a joint's hold fades; higher is sharper")
    smooth: int = Field(20, ge=0, le=100, description="rounds of evening along the surface")
    method: Literal["linear", "dual"] = "dual"


@step("skin.bind", Bind, lambda c, p: f"Bound the skin, {p.influences} influences a point", long=True)
def bind(character: Character, p: Bind) -> Character:
    """Bind the skin to the deforming joints by distance through the volume."""
    return bind_skin(character, p.influences, p.falloff, p.smooth, p.method)


class Method(Params):
    method: Literal["linear", "dual"]


@step(
    "skin.method", Method, lambda c, p: "Deform by " + ("dual quaternions" if p.method == "dual" else "linear blending")
)
def method(character: Character, p: Method) -> Character:
    """Choose how joints' moves are blended: linear or dual quaternion."""
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    return character.with_(skin=character.skin.model_copy(update={"method": p.method}))


class Rigid(Params):
    part: str
    joint: str


@step("skin.rigid", Rigid, lambda c, p: f"Hung {p.part} on {p.joint} alone")
def rigid(character: Character, p: Rigid) -> Character:
    """Let one joint hold a whole part."""
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    part, skin = character.part(p.part), character.skin
    character.joint(p.joint)
    names = skin.joints if p.joint in skin.joints else skin.joints + (p.joint,)
    joints, weights = character.arrays["skin/joints"].copy(), character.arrays["skin/weights"].copy()
    rows = np.arange(*part.points)
    joints[rows], weights[rows] = names.index(p.joint), 0.0
    weights[rows, 0] = 1.0
    return character.with_(
        skin=skin.model_copy(update={"joints": names}), arrays={"skin/joints": joints, "skin/weights": weights}
    )
