"""What every kit is made of, and how one is put on and taken off."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict, ValidationError

from ...character import Channel, Character, Control, Freedom, Joint, Kit, unique_name
from ...errors import BadParameters, NotFound, StepRefused, first_fault
from ...geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ..builder import Builder
from ..outlines import slice_outline
from ..program import Operation

MOVE = tuple(Channel(name=f"move {a}", kind="move") for a in "xyz")
TURN = tuple(Channel(name=f"turn {a}", kind="turn") for a in "xyz")


class Options(BaseModel):
    """A kit's options; subclasses add theirs."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class KitKind(ABC):
    """One kind of kit.  `roles` says which joints it wants: role → (least, most, what it is)."""

    kind: ClassVar[str]
    about: ClassVar[str]
    roles: ClassVar[dict[str, tuple[int, int, str]]]
    options: ClassVar[type[Options]] = Options

    @abstractmethod
    def controls(self, character: Character, kit: Kit) -> list[Control]:
        """The controls of a new kit, at rest."""

    @abstractmethod
    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        """The operations that a kit adds to the rig."""

    def check(self, character: Character, kit: Kit) -> None:
        for role, (least, most, what) in self.roles.items():
            given = kit.joints.get(role, ())
            if not least <= len(given) <= most:
                wanted = str(least) if least == most else f"{least} to {most}"
                raise BadParameters(
                    f"A kit “{self.kind}” wants {wanted} joints as “{role}” ({what}); {len(given)} were given.",
                    kit.name,
                    "Choose the joints and try again.",
                )
            for name in given:
                character.joint(name)
        unknown = set(kit.joints) - set(self.roles)
        if unknown:
            raise BadParameters(f"A kit “{self.kind}” has no role “{sorted(unknown)[0]}”.", kit.name)


def add_kit(character: Character, kit: Kit) -> Character:
    """Put a kit on.  Its name and its controls' names are made unique.

    Raises BadParameters for joints that don't fit and StepRefused where a joint is already driven.
    """
    from . import KINDS

    if kit.kind not in KINDS:
        raise NotFound(f"There is no kit “{kit.kind}”.", kit.name, f"There are: {', '.join(KINDS)}.")
    kind = KINDS[kit.kind]
    try:
        options = kind.options(**kit.options).model_dump()
    except ValidationError as error:
        field, why = first_fault(error)
        raise BadParameters(f"Option “{field}”: {why}.", kit.name) from None
    kit = kit.model_copy(
        update={"options": options, "name": unique_name(kit.name, frozenset(k.name for k in character.kits))}
    )
    kind.check(character, kit)
    driven = {n: k.name for k in character.kits for names in k.joints.values() for n in names}
    for names in kit.joints.values():
        for n in names:
            if n in driven:
                raise StepRefused(
                    f"{n} is already moved by the kit “{driven[n]}”.", kit.name, "Take that kit off first."
                )
    taken = frozenset(c.name for c in character.controls)
    made = kind.controls(character, kit)
    clash = next((c.name for c in made if c.name in taken), None)
    if clash:
        raise StepRefused(f"There is a control called “{clash}” already.", kit.name, "Rename that joint or kit.")
    from ..compile import compile_rig

    result = character.with_(kits=character.kits + (kit,), controls=character.controls + tuple(made))
    compile_rig(result)  # refuses loops and double writers now rather than at the first drag
    return result


def remove_kit(character: Character, name: str) -> Character:
    """Take a kit and its controls off; joints, weights and shapes stay as they are."""
    if name not in {k.name for k in character.kits}:
        raise NotFound(f"There is no kit called “{name}”.", character.name)
    return character.with_(
        kits=tuple(k for k in character.kits if k.name != name),
        controls=tuple(c for c in character.controls if c.kit != name),
    )


# -- helpers for making controls ---------------------------------------------------------------------------------
def control_at(
    character: Character,
    kit: Kit,
    joint: Joint,
    name: str,
    channels: tuple[Channel, ...],
    grow: float = 1.18,
    level: str = "body",
    upright: bool = False,
    reach: float = 0.0,
) -> Control:
    """A control on a joint, its line a slice of the body there.

    upright: axes of the world rather than the joint's; reach: how far down the bone the slice is taken (share).
    """
    from ...joints.orient import bone_frame

    axes = bone_frame(joint)
    own = np.eye(3) if upright else matrix_from_quaternion(joint.turn)
    place = np.array(joint.place)
    at = place
    children = character.children.get(joint.name, ())
    if reach and children:
        at = place + reach * (np.array(children[0].place) - place)
    line = np.array(slice_outline(character, at, axes, grow)).reshape(-1, 3)
    if not len(line):
        r = 0.03 * character.size
        angle = np.linspace(0, 2 * np.pi, 25)[:-1]
        line = np.stack([0 * angle, r * np.cos(angle), r * np.sin(angle)], 1)
    world = line @ axes.T + at
    local = (world - place) @ own
    return Control(
        name=name, kit=kit.name, side=kit.side, level=level, place=joint.place,  # type: ignore[arg-type]
        turn=tuple(map(float, quaternion_from_matrix(own))),  # type: ignore[arg-type]
        order="xyz" if upright else joint.order,
        channels=channels if upright else tuple(_limited(c, joint.freedom) for c in channels), outline=tuple((round(float(x), 5), round(float(y), 5), round(float(z), 5)) for x, y, z in local),
    )  # fmt: skip


def _limited(channel: Channel, freedom: Freedom | None) -> Channel:
    """A turning channel within the joint's freedom; a locked axis keeps still."""
    if freedom is None or channel.kind != "turn":
        return channel
    k = "xyz".index(channel.name[-1])
    if freedom.locked[k]:
        return channel.model_copy(update={"low": 0.0, "high": 0.0})
    return channel.model_copy(update={"low": freedom.low[k], "high": freedom.high[k]})


def tagged(name: str, kit: Kit) -> str:
    """`name` with the kit's side tag."""
    return name if kit.side == "C" else f"{name}_{kit.side}"
