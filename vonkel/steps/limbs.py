"""Steps of the Limbs station."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character, Kit, opposite, opposite_name, unique_name
from ..core.errors import StepRefused
from ..core.progress import tell
from ..core.rig.kits import add_kit, remove_kit
from ..core.rig.outfit import kit_of, outfit
from .registry import Params, step


class AddKit(Params):
    kind: str
    name: str = Field("", max_length=60, description="empty: named after its kind and side")
    joints: dict[str, tuple[str, ...]] = Field(description="role → joints; `vonkel kits` lists the roles")
    options: dict[str, float | int | str | bool] = {}
    both_sides: bool = Field(True, description="put the same kit on the partners' side")


def _kit(character: Character, p: AddKit) -> Kit:
    first = next((n for names in p.joints.values() for n in names), "")
    side = character.joint(first).side if first else "C"
    base = p.name or p.kind
    name = base if side == "C" or base.endswith(f"_{side}") else f"{base}_{side}"
    taken = frozenset(k.name for k in character.kits)
    return Kit(name=unique_name(name, taken), kind=p.kind, side=side, joints=p.joints, options=p.options)


@step("limbs.add_kit", AddKit, lambda c, p: f"Put on the kit {p.name or p.kind}")
def add(character: Character, p: AddKit) -> Character:
    """Put a kit on chosen joints, and its mirror image on the partners; nothing moves."""
    kit = _kit(character, p)
    result = add_kit(character, kit)
    others = {r: tuple(opposite_name(n) for n in names) for r, names in kit.joints.items()}
    there = all(n in character.joint_index for names in others.values() for n in names)
    if p.both_sides and kit.side != "C" and there and others != kit.joints:
        mirrored = kit.model_copy(
            update={"name": opposite_name(kit.name), "side": opposite(kit.side), "joints": others}
        )
        result = add_kit(result, mirrored)
    return result


class RemoveKit(Params):
    kit: str


@step("limbs.remove_kit", RemoveKit, lambda c, p: f"Took off the kit {p.kit}")
def remove(character: Character, p: RemoveKit) -> Character:
    """Take a kit and its controls off; joints and skin stay."""
    return remove_kit(character, p.kit)


class Outfit(Params):
    digits: bool = True
    tail: bool = True


@step("limbs.outfit", Outfit, lambda c, p: "Put on the kits that the plan's joints call for", long=True)
def put_on(character: Character, p: Outfit) -> Character:
    """Put on every kit that the joints call for: body, neck and head, arms, legs, digits, tail, ears, jaw, eyes."""
    result = character
    plans = list(outfit(character, p.digits, p.tail))
    if not plans:
        raise StepRefused(
            "No joints here call for a kit.", character.name, "Lay a plan first, or choose joints yourself."
        )
    for i, plan in enumerate(plans):
        tell(i / len(plans), f"putting on {plan.name}")
        result = add_kit(result, kit_of(result, plan))
    return result
