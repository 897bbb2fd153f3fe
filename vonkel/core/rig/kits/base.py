"""What every kit is made of, and how one is put on and taken off."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict, ValidationError

from ...character import Channel, Character, Control, Freedom, Joint, Kit, Rule, Space, unique_name
from ...character.references import without
from ...errors import BadParameters, NotFound, StepRefused, VonkelError, first_fault
from ...geometry.rotations import matrix_from_quaternion, quaternion_from_matrix
from ..builder import Builder
from ..frames import Vec
from ..outlines import outline_of, slice_outline
from ..program import UNIT_SCALE, Operation

MOVE = tuple(Channel(name=f"move {a}", kind="move") for a in "xyz")
TURN = tuple(Channel(name=f"turn {a}", kind="turn") for a in "xyz")
SIZE = (Channel(name="size", kind="size", rest=1.0, low=0.01, high=20.0),)


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
    lengths: ClassVar[frozenset[str]] = frozenset()  # options in metres: they grow with the figure

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


def sized_kits(character: Character, scale: float) -> Character:
    """The character once it was made `scale` times as large: kits' lengths with it."""
    from . import KINDS

    def sized(kit: Kit) -> Kit:
        grown = {n: float(kit.options[n]) * scale for n in KINDS[kit.kind].lengths if n in kit.options}
        return kit.model_copy(update={"options": {**kit.options, **grown}}) if grown else kit

    return character.with_(kits=tuple(sized(k) for k in character.kits))


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
    names = {k.name for k in character.kits} | {r.name for r in character.rules}
    kit = kit.model_copy(update={"options": options, "name": unique_name(kit.name, names)})
    kind.check(character, kit)  # first in its own words
    if kind.roles and not any(kit.joints.values()):
        raise BadParameters(f"A kit “{kit.kind}” wants joints.", kit.name, "Choose the joints and try again.")
    driven = driven_joints(character)
    for n in kind.moves(kit):
        if n in driven:
            raise StepRefused(f"{n} is already moved by the kit “{driven[n]}”.", kit.name, "Take that kit off first.")
    if not kit.places:
        kit = kit.model_copy(update={"places": kind.places(character, kit)})
    taken = {c.name for c in character.controls}
    made = []
    for c in kind.controls(character, kit):
        made.append(c.model_copy(update={"name": unique_name(c.name, taken)}))
        taken.add(made[-1].name)
    from ..compile import compile_rig

    result = character.with_(kits=character.kits + (kit,), controls=character.controls + tuple(made))
    result = with_rules(result, kind.rules(result, kit))
    compile_rig(result)  # refuses loops and double writers now rather than at the first drag
    return result


def driven_joints(character: Character) -> dict[str, str]:
    """Joint → the kit that moves it."""
    from . import KINDS

    return {n: k.name for k in character.kits if k.kind in KINDS for n in KINDS[k.kind].moves(k)}


def with_rules(character: Character, rules: Sequence[Rule]) -> Character:
    """The character with more rules: their names made unique, their controls given the channels they need."""
    names = {k.name for k in character.kits} | {r.name for r in character.rules}
    added = []
    for rule in rules:
        added.append(rule.model_copy(update={"name": unique_name(rule.name, names)}))
        names.add(added[-1].name)
    wanted: dict[str, list[Channel]] = {}
    for rule in added:
        if isinstance(rule, Space):
            wanted.setdefault(rule.control, []).extend(Channel(name=n, low=0.0, high=1.0) for n in rule.channels())
    controls = tuple(
        c.model_copy(update={"channels": c.channels + tuple(n for n in wanted[c.name] if n.name not in {k.name for k in c.channels})})
        if c.name in wanted
        else c
        for c in character.controls
    )  # fmt: skip
    return character.with_(rules=character.rules + tuple(added), controls=controls)


def remove_kit(character: Character, name: str) -> Character:
    """Take a kit off with its controls and rules; joints, weights and shapes stay as they are.

    Rules of one's own that spoke of its controls go too, and so do kits that lean on it alone.
    """
    if name not in {k.name for k in character.kits}:
        raise NotFound(f"There is no kit called “{name}”.", character.name)
    gone = {c.name for c in character.controls if c.kit == name}
    rules = tuple(r for r in character.rules if r.kit != name)
    bare = character.with_(
        kits=tuple(k for k in character.kits if k.name != name),
        controls=tuple(c for c in character.controls if c.kit != name),
        rules=rules,
        order=tuple(n for n in character.order if n != name),
    )
    from . import KINDS

    result = without(bare, {f"control:{n}" for n in gone})
    for k in result.kits:
        try:
            KINDS[k.kind].check(result, k)
        except VonkelError:  # it leaned on the kit that is gone, as a foot does on its leg
            return remove_kit(result, k.name)
    return result


def renewed(character: Character, kit: Kit) -> list[Control]:
    """A kit's controls made anew where its joints are; names, channels, sets and chosen shapes stay as they were."""
    from ..outlines import shaped
    from . import KINDS

    old = {c.key or c.name: c for c in character.controls if c.kit == kit.name}
    taken = {c.name for c in character.controls}
    made = []
    for c in KINDS[kit.kind].controls(character, kit):
        was = old.get(c.key) or old.get(c.name)
        if was is None:
            c = c.model_copy(update={"name": unique_name(c.name, taken)})
            taken.add(c.name)
        if was is not None:
            update = {
                "name": was.name,
                "channels": _channels_kept(was.channels, c.channels),
                "level": was.level,
                "label": was.label,
                "order": c.order,
            }
            c = c.model_copy(update=update)
            if was.shape or was.grow != 1.0:
                c = shaped(character, c, was.shape, was.grow)
        made.append(c)
    return made


def _channels_kept(old: tuple[Channel, ...], new: tuple[Channel, ...]) -> tuple[Channel, ...]:
    """The new channels, but those limited by hand as they were, and those that rules or a hand added."""
    was = {k.name: k for k in old}
    own = tuple(was[k.name] if k.name in was and was[k.name].limited else k for k in new)
    return own + tuple(k for k in old if k.name not in {n.name for n in new})


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
    from ...joints.orient import bone_frame

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
        turn=tuple(map(float, quaternion_from_matrix(own))),  # type: ignore[arg-type]
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


def chain_below(character: Character, first: str, most: int = 64) -> tuple[str, ...]:
    """A joint and those below it, as long as each has one deforming child on its own side."""
    out = [character.joint(first)]
    while len(out) < most:
        kids = [k for k in character.children.get(out[-1].name, ()) if k.deforms and k.role != "eye"]
        if len(kids) != 1 or kids[0].side != out[0].side:
            break
        out.append(kids[0])
    return tuple(j.name for j in out)
