"""Steps of the Face station."""

from __future__ import annotations

from pydantic import Field

from ..core.character import Character, Joint, Kit, unique_name
from ..core.errors import StepRefused
from ..core.face import eye_spheres
from ..core.joints.edit import add_joint
from ..core.rig.fitting import add_kit
from .registry import Params, step
from .skin import Rigid, rigid


class Eyes(Params):
    parent: str = Field("", description="what carries the eyes; empty: the head")


@step("face.eyes", Eyes, lambda c, p: "Set the eye joints in their eyeballs, with one aim")
def eyes(character: Character, p: Eyes) -> Character:
    """Put a joint at the centre of each eyeball's fitted sphere, and one aim that they all follow."""
    spheres = eye_spheres(character)
    if not spheres:
        raise StepRefused("No part is an eyeball.", character.name, "Say which parts are eyes at the Model station.")
    head = character.joint(p.parent) if p.parent else character.joint_with_role("head")
    result = character
    names = []
    for s in spheres:
        there = next((j for j in result.joints if j.role == "eye" and j.side == s.side), None)
        place = tuple(float(x) for x in s.centre)
        if there:
            result = result.with_(
                joints=tuple(
                    j.model_copy(update={"place": place}) if j.name == there.name else j for j in result.joints
                )
            )
            names.append(there.name)
            continue
        name = unique_name("eye" if s.side == "C" else f"eye_{s.side}", set(result.joint_index))
        joint = Joint(name=name, parent=head.name if head else None, side=s.side, place=place, role="eye")
        result = add_joint(result, joint)
        names.append(name)
    driven = {n for k in result.kits for group in k.joints.values() for n in group}
    loose = tuple(n for n in names if n not in driven)
    if loose:
        result = add_kit(result, Kit(name="eyes", kind="eyes", joints={"eyes": loose}))
    if result.skin is not None:
        result = _hold_eyeballs(result, {s.part: n for s, n in zip(spheres, names, strict=True)})
    return result


def _hold_eyeballs(character: Character, holders: dict[str, str]) -> Character:
    for part, joint in holders.items():
        character = rigid(character, Rigid(part=part, joint=joint))
    return character
