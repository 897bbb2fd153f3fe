"""Steps of the Shapes station: shapes made, kept in order, and made of one another."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Curve, CurveKey, Follower, Inputs, Link, Ref, Shape, opposite_name
from ..core.character.references import renamed
from ..core.character.refs import SHAPES
from ..core.errors import BadParameters, StepRefused
from ..core.rig import Pose, compile_rig
from ..core.rig.fitting import with_rules
from ..core.rig.opposite import mirrored_rule
from ..core.shapes import add_shape, edits, moved_whole, shape_named, with_shape, without_shape
from ..core.shapes.moves import added
from ..core.shapes.posed import lead_in_pose
from ..core.shapes.regions import amounts_of
from ..core.shapes.rims import rim_kept
from ..core.shapes.sculpt import SculptBrush, Sculpting
from ..core.trials import trial_pose
from .registry import Array, Params, Place, step

Title = Annotated[str, Field(min_length=1, max_length=60)]
Strength = Annotated[float, Field(ge=-3.0, le=3.0)]


class AddShape(Params):
    name: Title
    points: Array = Field(description="moved points (n, 3) in the character's order, metres")


@step("shapes.add", AddShape, lambda c, p: f"Added the shape {p.name}")
def add(character: Character, p: AddShape) -> Character:
    """Add a morph target from a mesh with the same points."""
    if p.points.ndim != 2 or p.points.shape[-1] != 3:
        raise BadParameters("A shape is points of three numbers.", p.name)
    return add_shape(character, p.name, np.asarray(p.points, float))


class ByPlace(AddShape):
    rest: Array = Field(description="the same mesh at rest (m, 3), in the order of the moved points")


@step("shapes.add_by_place", ByPlace, lambda c, p: f"Added the shape {p.name}, points matched by place")
def add_by_place(character: Character, p: ByPlace) -> Character:
    """Add a morph target whose points stand in another order, by where they are at rest."""
    if any(a.ndim != 2 or a.shape[-1] != 3 for a in (p.points, p.rest)):
        raise BadParameters("A shape is points of three numbers.", p.name)
    return add_shape(character, p.name, moved_whole(character, np.asarray(p.points, float), np.asarray(p.rest, float)))


class NewShape(Params):
    name: Title
    heading: str = Field("", max_length=60)
    region: str = Field("", max_length=80, description="what it may move; empty: all")
    even: bool = Field(False, description="it claims to be the same on both sides")


@step("shapes.new", NewShape, lambda c, p: f"Began the shape {p.name}")
def new(character: Character, p: NewShape) -> Character:
    """Begin a shape that moves nothing yet, to be sculpted."""
    shape = Shape(name=p.name, heading=p.heading, region=p.region, even=p.even)
    return with_shape(character, shape)


class OfShape(Params):
    shape: str


@step("shapes.remove", OfShape, lambda c, p: f"Deleted the shape {p.shape}")
def remove(character: Character, p: OfShape) -> Character:
    """Delete a morph target, and what comes on with it."""
    return without_shape(character, p.shape)


class EditShape(Params):
    shape: str
    name: str = Field("", max_length=60)
    low: float | None = Field(None, ge=-3, le=0, description="the least strength; none: as it is")
    high: float | None = Field(None, ge=0.1, le=3)
    heading: str | None = Field(None, max_length=60)
    region: str | None = Field(None, max_length=80)
    even: bool | None = None
    at: float | None = Field(None, gt=-2, lt=3, description="of an in-between: where on the other's strength")


@step("shapes.set", EditShape, lambda c, p: f"Set the shape {p.shape}", renames=True)
def edit(character: Character, p: EditShape) -> Character:
    """Name a morph target, say how far its strength may go, under which heading it stands and what it may move."""
    shape_named(character, p.shape)
    name = p.name or p.shape
    if name != p.shape and name in {s.name for s in character.shapes}:
        raise BadParameters(f"There is a shape called “{name}” already.", character.name, "Choose another name.")
    Shape.model_validate({"name": name})  # refuses what can't be a name
    said = p.model_dump(include={"low", "high", "heading", "region", "even", "at"}, exclude_none=True)
    shapes = tuple(s.model_copy(update=said) if s.name == p.shape else s for s in character.shapes)
    result = character.with_(shapes=shapes)
    return renamed(result, {Ref.shape(p.shape): Ref.shape(name)}) if name != p.shape else result


class InOrder(Params):
    shapes: list[str] = Field(min_length=1, max_length=10_000, description="all shapes, in their new order")


@step("shapes.order", InOrder, lambda c, p: "Put the shapes in order")
def order(character: Character, p: InOrder) -> Character:
    """Put shapes in another order."""
    named = {s.name: s for s in character.shapes}
    if sorted(p.shapes) != sorted(named):
        raise BadParameters("These aren't all of the shapes, each once.", character.name, "Reload the page.")
    return character.with_(shapes=tuple(named[n] for n in p.shapes))


class Copy(OfShape):
    name: str = Field("", max_length=60)


@step("shapes.copy", Copy, lambda c, p: f"Copied the shape {p.shape}")
def copy(character: Character, p: Copy) -> Character:
    """Make another shape of the same moves."""
    own = shape_named(character, p.shape)
    moves = edits.combined(character, {p.shape: 1.0})
    return with_shape(character, own.model_copy(update={"name": p.name or own.name}), moves, after=p.shape)


class Scale(OfShape):
    by: float = Field(-1.0, ge=-10, le=10, description="−1 turns it round")


@step(
    "shapes.scale",
    Scale,
    lambda c, p: (
        f"Turned the shape {p.shape} round" if p.by == -1 else f"Made the shape {p.shape} {p.by:g} times as far"
    ),
)
def scale(character: Character, p: Scale) -> Character:
    """Let a shape move farther or less far, or turn it round."""
    return edits.scaled(character, p.shape, p.by)


@step("shapes.mirror", OfShape, lambda c, p: f"Mirrored the shape {p.shape}")
def mirror(character: Character, p: OfShape) -> Character:
    """Mirror a shape: to its partner where its name has a side, or its own sides change places."""
    return edits.mirrored(character, p.shape)


class Alike(OfShape):
    side: Literal["left", "right"] = "left"


@step("shapes.alike", Alike, lambda c, p: f"Made the shape {p.shape} the same on both sides, as its {p.side}")
def alike(character: Character, p: Alike) -> Character:
    """Make a shape the same on both sides."""
    return edits.alike(character, p.shape, p.side == "left")


class Split(OfShape):
    width: float = Field(0.02, ge=0, le=1e3, description="metres over which one side fades into the other")


@step("shapes.split", Split, lambda c, p: f"Split the shape {p.shape} into left and right")
def split(character: Character, p: Split) -> Character:
    """Make a left and a right half of a shape, with a soft middle; together they are the whole."""
    return edits.split(character, p.shape, p.width)


class Combine(Params):
    name: Title
    shares: dict[str, Annotated[float, Field(ge=-10, le=10)]] = Field(min_length=1, max_length=200)
    heading: str = Field("", max_length=60)


@step("shapes.combine", Combine, lambda c, p: f"Put {len(p.shares)} shapes together into {p.name}")
def combine(character: Character, p: Combine) -> Character:
    """Make a shape of the sum of others, each by its share."""
    return with_shape(character, Shape(name=p.name, heading=p.heading), edits.combined(character, p.shares))


class Between(OfShape):
    at: float = Field(0.5, gt=-2, lt=3, description="the other shape's strength at which it is fully on")


@step("shapes.between", Between, lambda c, p: f"Began an in-between of {p.shape} at {p.at:g}")
def between(character: Character, p: Between) -> Character:
    """Begin an in-between: it comes on where another shape is part of the way, and goes off to both sides."""
    own = shape_named(character, p.shape)
    knots = {0.0, 1.0, *(s.at for s in character.shapes if s.between == p.shape)}
    if min(abs(p.at - k) for k in knots) < 0.01:
        raise StepRefused(f"At {p.at:g} there is a shape already.", p.shape, "Choose another strength.")
    made = Shape(name=f"{p.shape} at {p.at:g}", heading=own.heading, region=own.region, between=p.shape, at=p.at)
    return with_shape(character, made, after=p.shape)


class Together(Params):
    shapes: list[str] = Field(min_length=2, max_length=8)
    name: str = Field("", max_length=60)


@step("shapes.together", Together, lambda c, p: f"Began a shape for {' and '.join(p.shapes)} together")
def together(character: Character, p: Together) -> Character:
    """Begin a combination: it comes on where all of some shapes are on, as the product of their strengths."""
    first = [shape_named(character, n) for n in p.shapes]
    if len(set(p.shapes)) < len(p.shapes):
        raise BadParameters("A shape is named twice.", p.shapes[0], "Choose different ones.")
    made = Shape(name=p.name or " + ".join(p.shapes)[:80], heading=first[0].heading, of=tuple(p.shapes))
    return with_shape(character, made)


class InPose(Params):
    """`pose`: what controls are set to, control → channel → value; or `trial`, the name of a trial pose."""

    pose: Inputs = Field({}, description="control → channel → value; nothing: at rest")
    trial: str = Field("", max_length=200, description="a trial pose instead")

    def posed(self, character: Character) -> Pose | None:
        """The pose; None at rest.  Raises BadParameters for a trial that isn't there."""
        if self.trial:
            found = trial_pose(character, self.trial)
            if found is None:
                raise BadParameters(f"There is no trial “{self.trial}”.", character.name, "Choose one from the strip.")
            return found
        return compile_rig(character).evaluate(self.pose) if self.pose else None


READ = {"bend": "bends", "twist": "twists", "toward": "swings"}


class Corrective(InPose):
    name: Title
    joint: str
    reading: Literal["bend", "twist", "toward"] = Field(
        "bend", description="by the turn about its hinge, about the bone, or by where the bone points"
    )
    starts: float = Field(0.0, ge=0, lt=0.95, description="the share of the way at which it begins to come on")
    both_sides: bool = True
    heading: str = Field("correctives", max_length=60)


@step(
    "shapes.corrective", Corrective, lambda c, p: f"Began the corrective {p.name} for when {p.joint} {READ[p.reading]}"
)
def corrective(character: Character, p: Corrective) -> Character:
    """Begin a corrective: a shape that is on in this pose, and comes on with a joint's turn."""
    pose = p.posed(character)
    if pose is None:
        raise StepRefused("The figure is at rest.", p.joint, "Pose it first, or stand at a trial.")
    lead, value = lead_in_pose(character, p.joint, p.reading, pose)
    other = opposite_name(p.joint)
    sided = p.both_sides and other != p.joint and other in character.joint_index
    name = p.name + p.joint[-2:] if sided and opposite_name(p.name) == p.name else p.name
    result = with_shape(character, Shape(name=name, heading=p.heading))
    name = added(character, result)[0]
    ends = sorted([(value * p.starts, 0.0), (value, 1.0)])
    keys = tuple(CurveKey(at=at, value=strength) for at, strength in ends)
    follower = Follower(thing=Ref.shape(name), curve=Curve(keys=keys))
    rules = [Link(name=f"{name} fires", lead=lead, followers=(follower,))]
    if sided and opposite_name(name) not in {s.name for s in result.shapes}:
        result = with_shape(result, Shape(name=opposite_name(name), heading=p.heading), after=name)
        rules.append(mirrored_rule(result, rules[0]))  # type: ignore[arg-type]
    return with_rules(result, rules)


class Stroke(InPose):
    """A stroke.  `samples`: triangle, its second and third corner's share, press, and the way one looks, at rest; of a pull
    all but the first end in the way that the hand has gone since, metres in the pose."""

    shape: str
    brush: Literal["pull", "swell", "sink", "even", "calm", "flatten", "back"]
    radius: float = Field(0.05, gt=1e-6, lt=1e3, description="metres")
    strength: float = Field(0.5, ge=0, le=1)
    fading: float = Field(1.0, ge=0, le=1, description="the share of the radius over which it fades")
    through: bool = Field(False, description="all that lies in the ball round the hand, not along the skin")
    front: bool = Field(False, description="only what faces the eye")
    both_sides: bool = True
    region: str = Field("", max_length=80, description="what the brush may touch; empty: all")
    over: bool = Field(False, description="sculpted on the skin as it goes out, which is the one that trials judge")
    rims: bool = Field(True, description="coloured bands keep their width")
    samples: list[tuple[float, float, float, float, float, float, float]] = Field(min_length=1, max_length=20_000)

    def sculpting(self, character: Character) -> Sculpting:
        brush = SculptBrush(
            kind=self.brush, radius=self.radius, strength=self.strength, fading=self.fading, through=self.through,
            front=self.front, both=self.both_sides, region=self.region, rims=self.rims,
        )  # fmt: skip
        return Sculpting(character, self.shape, brush, self.posed(character), self.over)


DONE = {
    "pull": "Pulled at", "swell": "Swelled", "sink": "Sank", "even": "Evened out", "calm": "Calmed", "flatten": "Flattened",
    "back": "Brought back to rest some of",
}  # fmt: skip


def _stroke_said(c: Character, p: Stroke) -> str:
    posed = f", in “{p.trial}”" if p.trial else ", in a pose" if any(k != SHAPES for k in p.pose) else ""
    return f"{DONE[p.brush]} {p.shape}{', both sides' if p.both_sides else ''}{posed}"


@step("shapes.sculpt", Stroke, _stroke_said)
def sculpt(character: Character, p: Stroke) -> Character:
    """Sculpt a shape: one stroke of a brush over the figure, at rest or in a pose."""
    sculpting = p.sculpting(character)
    sculpting.put(p.samples)
    return sculpting.result()


Turn = Annotated[float, Field(ge=-720, le=720)]
Size = Annotated[float, Field(ge=0.01, le=20)]


class Placed(OfShape):
    part: str = Field("", description="a whole part of the mesh alone, such as an iris; empty: all of it")
    region: str = Field("", max_length=80)
    pivot: Place = (0.0, 0.0, 0.0)
    move: Place = Field((0.0, 0.0, 0.0), description="metres")
    turn: tuple[Turn, Turn, Turn] = Field((0.0, 0.0, 0.0), description="a rotation vector, degrees")
    size: tuple[Size, Size, Size] = (1.0, 1.0, 1.0)
    keep: Literal["", "x", "y", "z"] = Field("", description="sized along this axis, across it as keeps the volume")


@step("shapes.place", Placed, lambda c, p: f"Moved {p.part or 'all'} of {p.shape} as a whole")
def place(character: Character, p: Placed) -> Character:
    """Move, turn and size what a shape makes of the figure, of a part or of a region, about a pivot."""
    size = edits.keeping_volume(p.size, "xyz".index(p.keep)) if p.keep else p.size
    a, b, c = (float(v) for v in np.radians(p.turn))
    placing = edits.Placing(pivot=p.pivot, move=p.move, turn=(a, b, c), size=size)
    amounts = amounts_of(character, p.region)
    if p.part:
        own = np.zeros(len(amounts))
        own[slice(*character.part(p.part).points)] = 1.0
        amounts = amounts * own
    return edits.placed(character, p.shape, placing, amounts)


class Cut(OfShape):
    region: str = Field("", max_length=80, description="empty: the shape's own")


@step("shapes.cut", Cut, lambda c, p: f"Kept {p.shape} to {p.region or 'its region'}")
def cut(character: Character, p: Cut) -> Character:
    """Cut off what a shape moves outside a region, along its soft edge."""
    region = p.region or shape_named(character, p.shape).region
    if not region:
        raise StepRefused(f"“{p.shape}” has no region.", p.shape, "Give it one, or say which.")
    return edits.cut(character, p.shape, region)


class Rim(OfShape):
    region: str = Field(max_length=80)


@step("shapes.rim", Rim, lambda c, p: f"Made {p.region} an even band in {p.shape}")
def rim(character: Character, p: Rim) -> Character:
    """Let a coloured band keep its width in a shape."""
    shape_named(character, p.shape)
    return rim_kept(character, p.shape, p.region)


class OnePoint(OfShape):
    points: list[Annotated[int, Field(ge=0)]] = Field(min_length=1, max_length=100_000)


@step("shapes.settle", OnePoint, lambda c, p: f"Let {len(p.points)} of {p.shape} move as what lies round them does")
def settle(character: Character, p: OnePoint) -> Character:
    """Let some points of a shape move as their neighbours do."""
    return edits.settled(character, p.shape, np.array(sorted(set(p.points))))
