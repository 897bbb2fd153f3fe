"""Steps of the Limbs station."""

from __future__ import annotations

from collections.abc import Iterator

from pydantic import Field

from ..core.character import Character, Kit, opposite, opposite_name, unique_name
from ..core.errors import StepRefused
from ..core.joints.names import split_name
from ..core.progress import tell
from ..core.rig.kits import add_kit, remove_kit
from .registry import Params, step


class AddKit(Params):
    kind: str
    name: str = Field("", max_length=60, description="empty: named after its kind and side")
    joints: dict[str, tuple[str, ...]] = Field(description="role → joints; `vonkel kits` lists the roles")
    options: dict[str, float | str | bool] = {}
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
def outfit(character: Character, p: Outfit) -> Character:
    """Put on every kit that the joints call for: body, neck and head, arms, legs, digits, tail, ears, jaw, eyes."""
    result = character
    plans = list(_outfit(character, p))
    if not plans:
        raise StepRefused(
            "No joints here call for a kit.", character.name, "Lay a plan first, or choose joints yourself."
        )
    for i, (kind, name, joints) in enumerate(plans):
        tell(i / len(plans), f"putting on {name}")
        side = character.joint(next(n for names in joints.values() for n in names)).side
        result = add_kit(result, Kit(name=name, kind=kind, side="C" if kind == "eyes" else side, joints=joints))
    return result


KitPlan = tuple[str, str, dict[str, tuple[str, ...]]]  # kind, name, joints by role


def _outfit(c: Character, p: Outfit) -> Iterator[KitPlan]:
    """Kits for joints that no kit moves yet: body, limbs by what their joints are, then every chain left over."""
    driven = {n for k in c.kits for names in k.joints.values() for n in names}

    def role(prefix: str, side: str = "C") -> tuple[str, ...]:
        return tuple(
            j.name
            for j in c.joints
            if j.role.startswith(prefix) and j.side == side and j.deforms and j.name not in driven
        )

    def take(kind: str, name: str, joints: dict[str, tuple[str, ...]]) -> KitPlan:
        driven.update(n for names in joints.values() for n in names)
        return kind, name, joints

    hips = c.joint_with_role("hips")
    spine = role("spine") + role("chest")
    if hips and spine and hips.name not in driven:
        yield take("body", "body", {"hips": (hips.name,), "spine": spine})
    above = role("neck") + tuple(n for n in role("head") if c.joint(n).role == "head")
    if above:
        yield take("turns", "head", {"chain": above})
    for kind, roles in (("arm", ("upper_arm", "forearm", "hand")), ("leg", ("thigh", "shin", "foot"))):
        for first in [j for j in c.joints if j.role == roles[0] and j.name not in driven]:
            middle = next(
                (k for k in c.children.get(first.name, ()) if k.role == roles[1] and k.name not in driven), None
            )
            end = next((k for k in c.children.get(middle.name, ()) if k.role == roles[2]), None) if middle else None
            if middle and end and end.name not in driven:
                only = sum(j.role == roles[0] and j.side == first.side for j in c.joints) == 1
                name = f"{kind}_{first.side}" if only else first.name.replace(roles[0], kind)
                yield take(kind, name, {"upper": (first.name,), "middle": (middle.name,), "end": (end.name,)})
    skip = () if p.tail else ("tail",)
    skip += () if p.digits else ("thumb", "point", "middle", "ring", "little", "digit")
    for start in c.joints:
        if start.name in driven or not start.deforms or start.role == "eye" or start.role.startswith(skip or ("\0",)):
            continue
        chain = [start]
        while True:
            kids = [
                k for k in c.children.get(chain[-1].name, ()) if k.deforms and k.name not in driven and k.role != "eye"
            ]
            if len(kids) != 1 or kids[0].side != start.side:
                break
            chain.append(kids[0])
        stem, _, side = split_name(start.name)
        yield take("turns", f"{stem}_{side}" if side else stem, {"chain": tuple(j.name for j in chain)})
    eyes = tuple(j.name for j in c.joints if j.role == "eye" and j.name not in driven)
    if eyes:
        yield take("eyes", "eyes", {"eyes": eyes})
