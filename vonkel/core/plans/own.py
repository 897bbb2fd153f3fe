"""Plans of one's own: a skeleton (and its kits) saved from one character and refitted to another.

Both bodies get the same built-in plan; the ways its joints differ between them carry every joint of the saved skeleton
over, by a thin-plate spline in space (Bookstein 1989, Principal warps).  Where no built-in plan fits, the bounding boxes
are matched.
"""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..character import Character, Joint, Kit, Rule
from ..character.upgrade import renamed_index, with_index_fingers
from ..errors import StepRefused, VonkelError
from ..geometry.rotations import vector
from ..joints.inside import kept_inside
from ..joints.orient import turn_down_bones
from ..rig.fitting import add_kit, with_rules
from .built_in import PLANS, sketch_of
from .carrying import carried
from .sketch import only_joints

Place = tuple[float, float, float]


class OwnPlan(BaseModel):
    """The file's own form: JSON with these fields.  Places are metres in the character it was saved from."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    vonkel_plan: Annotated[int, Field(ge=1, le=1)] = 1
    name: str = Field(min_length=1, max_length=80)
    base: Annotated[str, Field(max_length=40, description="the built-in plan that tells how two bodies compare")] = ""
    base_options: dict[str, Any] = {}
    base_places: dict[str, Place] = {}
    box: tuple[Place, Place]
    joints: tuple[Joint, ...] = Field(max_length=2000)
    kits: tuple[Kit, ...] = ()
    rules: tuple[Rule, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _upgraded(cls, data: Any) -> Any:
        """A plan saved by an earlier version, in today's words."""
        if isinstance(data, dict) and isinstance(data.get("base_places"), dict):
            places = {renamed_index(str(n)): p for n, p in data["base_places"].items()}
            data = {**data, "base_places": places}
            if isinstance(data.get("joints"), list):
                data["joints"] = with_index_fingers(data["joints"])
        return data

    @model_validator(mode="after")
    def _hung(self) -> OwnPlan:
        seen: set[str | None] = {None}
        for j in self.joints:
            if j.name in seen:
                raise ValueError(f"two joints are called {j.name}")
            if abs(sum(v * v for v in j.turn) - 1.0) > 1e-6:
                raise ValueError(f"the turn of {j.name} is no rotation")
            if j.parent not in seen:
                raise ValueError(f"{j.name} hangs from {j.parent}, which doesn't stand before it")
            seen.add(j.name)
        return self


def save_plan(character: Character, name: str, with_kits: bool = True) -> OwnPlan:
    """The character's skeleton as a plan.  Raises StepRefused for a character without joints."""
    if not character.joints:
        raise StepRefused("There are no joints to save.", character.name, "Draw some, or lay a plan.")
    places: dict[str, Place] = {}
    base = character.plan if character.plan in PLANS else ""
    if base:
        try:
            places = {n: vector(p) for n, (_, p, _, _) in sketch_of(character, base, {}).found.items()}
        except VonkelError:
            base = ""
    low, high = character.points.min(0), character.points.max(0)
    return OwnPlan(
        name=name, base=base, base_places=places, box=(vector(low), vector(high)), joints=character.joints,
        kits=character.kits if with_kits else (), rules=character.rules if with_kits else (),
    )  # fmt: skip


def lay_own_plan(character: Character, plan: OwnPlan) -> Character:
    """A saved plan fitted to this character, in place of any joints, kits and skin there are."""
    places = np.array([j.place for j in plan.joints]).reshape(-1, 3)
    now: dict[str, np.ndarray] = {}
    if plan.base:
        try:
            now = {n: p for n, (_, p, _, _) in sketch_of(character, plan.base, plan.base_options).found.items()}
        except VonkelError:
            now = {}
    then = plan.base_places
    common = [n for n in then if n in now]
    if len(common) >= 6:
        source = np.array([then[n] for n in common])
        target = np.array([now[n] for n in common])
        moved = carried(source, target, places)
    else:
        low, high = (np.array(b) for b in plan.box)
        new_low, new_high = character.points.min(0), character.points.max(0)
        moved = new_low + (places - low) * (new_high - new_low) / np.maximum(high - low, 1e-9)
    joints = tuple(
        j.model_copy(update={"place": vector(p * [0.0 if j.side == "C" and abs(j.place[0]) < 1e-9 else 1.0, 1, 1])})
        for j, p in zip(plan.joints, moved, strict=True)
    )
    bare = only_joints(character, joints, plan.base)
    kept = tuple(j.model_copy(update={"place": vector(kept_inside(bare, j, np.array(j.place)))}) for j in bare.joints)
    made = turn_down_bones(bare.with_(joints=kept), keep_hinge=True)
    for kit in plan.kits:
        made = add_kit(made, kit.model_copy(update={"places": {}}))  # heels and edges are this body's own
    return with_rules(made.with_(rules=()), plan.rules) if plan.rules else made
