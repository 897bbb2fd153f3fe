"""Steps of the Skin station."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Skin
from ..core.errors import StepRefused
from ..core.skin.bind import BINDINGS, bind_skin
from ..core.skin.brush import Brush, Painting
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
    return character.with_(skin=_skin_of(character).model_copy(update={"method": p.method}))


class Rigid(Params):
    part: str
    joint: str


@step("skin.rigid", Rigid, lambda c, p: f"Hung {p.part} on {p.joint} alone")
def rigid(character: Character, p: Rigid) -> Character:
    """Let one joint hold a whole part."""
    _skin_of(character)
    part = character.part(p.part)
    character.joint(p.joint)
    return with_table(character, table_of(character).given_rows(np.arange(*part.points), p.joint))


class Lock(Params):
    joints: list[str] = Field(min_length=1, max_length=2000)
    on: bool = True


@step("skin.lock", Lock, lambda c, p: f"{'Locked' if p.on else 'Unlocked'} {_few(p.joints)}")
def lock(character: Character, p: Lock) -> Character:
    """Lock joints: what they hold is left alone by brushes and mends, or let them go again."""
    skin = _skin_of(character)
    for name in p.joints:
        if name not in skin.joints:
            raise StepRefused(f"{name} holds no skin.", name, "Choose a joint that the skin was bound to.")
    changed = set(skin.locked) | set(p.joints) if p.on else set(skin.locked) - set(p.joints)
    return character.with_(
        skin=skin.model_copy(update={"locked": tuple(n for n in skin.joints if n in changed)})
    )


Share = Annotated[float, Field(ge=0.0, le=1.0)]
MOST_PLACES = 20_000  # of one stroke


class Paint(Params):
    """A stroke.  `samples`: triangle, its second and third corner's share, press, and the way one looks, at rest."""

    brush: Literal["add", "take", "set", "even", "sharpen"]
    joint: str = Field("", max_length=200, description="whose weight; of no account where all are evened or sharpened")
    radius: float = Field(0.05, gt=1e-6, lt=1e3, description="metres, along the skin")
    strength: Share = Field(0.5, description="what the stroke comes to in its middle")
    value: Share = Field(1.0, description="what “bring to” brings it to")
    fading: Share = Field(1.0, description="the share of the radius over which it fades; 0: a hard rim")
    through: bool = Field(False, description="all that lies in the ball round the hand, not along the skin")
    front: bool = Field(True, description="only what faces the eye")
    both_sides: bool = Field(True, description="the mirrored place too, for the joint's partner")
    samples: list[tuple[float, float, float, float, float, float, float]] = Field(
        min_length=1, max_length=MOST_PLACES, json_schema_extra={"hand": True}
    )

    def as_brush(self) -> Brush:
        return Brush(
            self.brush, self.joint, self.radius, self.strength, self.value, self.fading, self.through, self.front,
            self.both_sides,
        )  # fmt: skip


DONE = {
    "add": "Added weight of {}", "take": "Took away weight of {}", "set": "Brought the weight of {} to {:.2f}",
    "even": "Evened weights out", "sharpen": "Sharpened weights",
}  # fmt: skip


def _stroke_said(c: Character, p: Paint) -> str:
    words = DONE[p.brush].format(p.joint.replace("_", " "), p.value)
    return words + (", both sides" if p.both_sides else "")


def _changed(before: Character, after: Character) -> str:
    """How many points are held otherwise."""
    a, b = table_of(before), table_of(after)
    names = tuple(dict.fromkeys((*a.joints, *b.joints)))
    off = abs(a.with_joints(names).held - b.with_joints(names).held)
    n = int((np.asarray(off.max(1).todense()).ravel() > 1e-6).sum())
    return f"{n:,} {'point' if n == 1 else 'points'}"


@step("skin.paint", Paint, _stroke_said, figures=_changed)
def paint(character: Character, p: Paint) -> Character:
    """Paint weights: one stroke of a brush over the skin."""
    painting = Painting(character, p.as_brush())
    painting.put(p.samples)
    return painting.result()


def _skin_of(character: Character) -> Skin:
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    return character.skin


def _few(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
