"""Steps of the Skin station."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character
from ..core.errors import StepRefused
from ..core.skin.bind import BINDINGS, bind_skin
from ..core.weights import table_of, with_table
from .registry import Params, step


def _ways(schema: dict[str, Any]) -> None:
    """The ways to bind that are registered now, with their words."""
    schema["enum"] = list(BINDINGS)
    schema["words"] = {k: b.title for k, b in BINDINGS.items()}


class Bind(Params):
    influences: int = Field(4, ge=1, le=8, description="the most joints that may hold a point; engines want 4")
    falloff: float = Field(5.0, ge=1.0, le=12.0, description="how fast a joint's hold fades; higher is sharper")
    smooth: int = Field(20, ge=0, le=100, description="how far holds are evened along the surface; 20 is usual")
    method: Literal["linear", "dual"] = Field("dual", description="how joints' moves are blended when it deforms")
    cells: int = Field(
        0,
        ge=0,
        le=150_000,
        description="how many cells the body is filled with: more tell thinner parts apart, and take up to a second for "
        "each 100,000; 0: 26,000, and more while many points lie over none",
    )
    by: str = Field(
        "volume",
        max_length=40,
        description="; ".join(f"{k}: {b.title}, {b.about}" for k, b in BINDINGS.items()),
        json_schema_extra=_ways,
    )


@step(
    "skin.bind",
    Bind,
    lambda c, p: f"Bound the skin {BINDINGS[p.by].title}, {p.influences} influences a point",
    long=True,
)
def bind(character: Character, p: Bind) -> Character:
    """Bind the skin to the deforming joints: by distance through the volume, or another way there is."""
    return bind_skin(character, p.influences, p.falloff, p.smooth, p.method, p.by, p.cells)


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
    part = character.part(p.part)
    character.joint(p.joint)
    return with_table(character, table_of(character).given_rows(np.arange(*part.points), p.joint))
