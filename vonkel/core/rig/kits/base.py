"""What every kit is made of, and how one is put on and taken off."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict

from ...character import Channel, Character, Control, Freedom, Joint, Kit, Rule
from ...errors import BadParameters
from ...geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ...joints.orient import bone_frame
from ..builder import Builder
from ..frames import Vec
from ..outlines import outline_of, slice_outline
from ..program import UNIT_SCALE, Operation

MOVE = tuple(Channel(name=f"move {a}", kind="move") for a in "xyz")
TURN = tuple(Channel(name=f"turn {a}", kind="turn") for a in "xyz")
SIZE = (Channel(name="size", kind="size", rest=1.0, low=0.01, high=20.0),)


PROVIDED: dict[str, frozenset[str]] = {}


def gives(kit: Kit, what: str) -> bool:
    """Whether a kit is of a kind that provides this: see `KitKind.provides`."""
    return what in PROVIDED.get(kit.kind, ())


class Options(BaseModel):
    """A kit's options; subclasses add theirs."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class KitKind(ABC):
    """One kind of kit.  `roles` says which joints it wants: role → (least, most, what it is).

    Joints of the roles in `leans` are only looked at; the others are the kit's to move.
    """

    kind: ClassVar[str]
    about: ClassVar[str]
    roles: ClassVar[dict[str, tuple[int, int, str]]]
    options: ClassVar[type[Options]] = Options
    leans: ClassVar[frozenset[str]] = frozenset()
    lateral: ClassVar[frozenset[str]] = frozenset()  # values that are the other way round on the other side
    lengths: ClassVar[frozenset[str]] = frozenset()  # options in metres: they grow with the figure
    provides: ClassVar[frozenset[str]] = frozenset()
    """What others may look for in such a kit, whatever it is called: `goal` (an end that is wanted somewhere, and is switched
    between IK and FK), `lengthens` (its bones may grow longer), `trunk` (it holds what feet push), `sight` (eyes that look),
    `roll` (it moves where a limb's end is wanted), `neighbours` (no joint may come between its bones), `unsided` (it belongs to no side, whatever joints it has)."""

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        if "kind" in cls.__dict__:
            PROVIDED[cls.kind] = cls.provides

    @abstractmethod
    def controls(self, character: Character, kit: Kit) -> list[Control]:
        """The controls of a new kit, at rest."""

    @abstractmethod
    def operations(self, builder: Builder, kit: Kit) -> list[Operation]:
        """The operations that a kit adds to the rig."""

    def places(self, character: Character, kit: Kit) -> dict[str, Vec]:
        """The points that a new kit turns about, found from the mesh."""
        return {}

    def rules(self, character: Character, kit: Kit) -> list[Rule]:
        """The rules that a new kit brings; the character has its controls already."""
        return []

    def stands(self, builder: Builder, kit: Kit) -> set[str]:
        """The controls, of whatever kit, whose standing place this one amends."""
        return set()

    def moves(self, kit: Kit) -> list[str]:
        """The joints that the kit moves."""
        return [n for role, names in kit.joints.items() if role not in self.leans for n in names]

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
    key: str = "",
    towards: tuple[Joint, float] | None = None,
) -> Control:
    """A control on a joint, its line a slice of the body there.

    upright: axes of the world rather than the joint's; reach: how far down the bone the slice is taken (share); towards:
    another joint, and the share of the way to it where the slice is taken.
    """
    axes = bone_frame(joint)
    own = np.eye(3) if upright else matrix_from_quaternion(joint.turn)
    place = np.array(joint.place)
    at = place
    children = character.children.get(joint.name, ())
    if reach and children:
        at = place + reach * (np.array(children[0].place) - place)
    if towards is not None:
        at = place + towards[1] * (np.array(towards[0].place) - place)
    line = np.array(slice_outline(character, at, axes, grow)).reshape(-1, 3)
    if not len(line):
        r = 0.03 * character.size
        angle = np.linspace(0, 2 * np.pi, 25)[:-1]
        line = np.stack([0 * angle, r * np.cos(angle), r * np.sin(angle)], 1)
    world = line @ axes.T + at
    local = (world - place) @ own
    return Control(
        name=name, kit=kit.name, key=key or name, side=kit.side, level=level, place=joint.place,
        turn=tuple(map(float, quaternion_from_matrix(own))),
        order="xyz" if upright else joint.order,
        channels=channels if upright else tuple(_limited(c, joint.freedom) for c in channels), outline=outline_of(local),
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


AIM = {"x": 0, "y": 1, "z": 2}


def lengthened(joint: Joint) -> Callable[[float, float], tuple[float, float, float]]:
    """The scale of a joint whose bone is made longer: (factor, share of the volume that is kept) → (x, y, z)."""
    axis = AIM[joint.aim[-1]]

    def scale(factor: float, volume: float) -> tuple[float, float, float]:
        if factor == 1.0:
            return UNIT_SCALE
        across = 1.0 + (factor**-0.5 - 1.0) * volume
        out = [across, across, across]
        out[axis] = factor
        return (out[0], out[1], out[2])

    return scale
