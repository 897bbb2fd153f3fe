"""Steps of the Skin station."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Skin, opposite_name
from ..core.errors import BadParameters, StepRefused
from ..core.skin import edits
from ..core.skin.bind import BINDINGS, bind_skin
from ..core.skin.brush import Brush, Painting
from ..core.skin.carrying import Source, carried, source_of
from ..core.skin.deform import mix_of
from ..core.skin.strays import strays_of
from ..core.skin.zones import Zone, Zoning, both_sides
from ..core.tolerances import MAX_POINTS
from ..core.weights import WeightTable, table_of, with_table
from .registry import Array, Params, Place, step


def _ways(schema: dict[str, Any]) -> None:
    """The ways to bind that are registered now, with their words."""
    schema["enum"] = list(BINDINGS)
    schema["words"] = {k: b.title for k, b in BINDINGS.items()}


Point = Annotated[int, Field(ge=0, lt=MAX_POINTS)]
Points = Annotated[list[Point], Field(max_length=MAX_POINTS)]


class Bind(Params):
    influences: int = Field(4, ge=1, le=8, description="the most joints that may hold a point; engines want 4")
    falloff: float = Field(5.0, ge=1.0, le=12.0, description="how fast a joint's hold fades; higher is sharper")
    smooth: int = Field(20, ge=0, le=100, description="how far holds are evened along the surface; 20 is usual")
    method: Literal["linear", "dual", "mixed"] = Field(
        "dual", description="how joints' moves are blended when it deforms"
    )
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
    joints: list[str] = Field([], max_length=2000, description="only these may hold skin; none: all that deform")
    points: Points = Field([], description="only these are bound anew, what others are held by stays; none: all")
    falloffs: dict[str, Annotated[float, Field(ge=0.2, le=5.0)]] = Field(
        {}, max_length=2000, description="joint → how much sharper (above 1) or softer its own hold fades"
    )
    eased: bool = Field(
        True,
        description="through the volume: holds fade farther where ordinary poses would stretch the skin to more than 1.5 times",
    )


@step(
    "skin.bind",
    Bind,
    lambda c, p: f"Bound the skin {BINDINGS[p.by].title}, {p.influences} influences a point",
    long=True,
)
def bind(character: Character, p: Bind) -> Character:
    """Bind the skin to the deforming joints: by distance through the volume, or another way there is."""
    for name in (*p.joints, *p.falloffs):
        character.joint(name)
    bound = bind_skin(
        character, p.influences, p.falloff, p.smooth, p.method, p.by, p.cells, p.joints, p.falloffs, p.eased
    )
    return edits.only(character, bound, edits.checked(character, p.points)) if p.points else bound


class Method(Params):
    method: Literal["linear", "dual", "mixed"]


BLENDS = {"linear": "linear blending", "dual": "dual quaternions", "mixed": "a painted blend of both"}


@step("skin.method", Method, lambda c, p: f"Deform by {BLENDS[p.method]}")
def method(character: Character, p: Method) -> Character:
    """Choose how joints' moves are blended: linear, by dual quaternions, or a painted blend of both."""
    return character.with_(skin=_skin_of(character).model_copy(update={"method": p.method}))


class Mix(Params):
    points: Points = Field([], description="none: all")
    share: float = Field(1.0, ge=0.0, le=1.0, description="1: by dual quaternions; 0: linear")


@step(
    "skin.mix",
    Mix,
    lambda c, p: f"Let {_points(len(p.points)) if p.points else 'all points'} deform {p.share:.2f} by dual quaternions",
)
def mix(character: Character, p: Mix) -> Character:
    """Say how much of chosen points deforms by dual quaternions, the rest linearly."""
    skin = _skin_of(character)
    made = mix_of(character).copy()
    made[_or_all(character, p.points)] = p.share
    return character.with_(skin=skin.model_copy(update={"method": "mixed"}), arrays={"skin/mix": made})


class After(Params):
    rounds: int = Field(8, ge=0, le=40, description="how often the posed skin is evened; 0: not at all")
    by: Literal["posed", "beforehand"] = Field(
        "posed",
        description="posed: in every pose, after the blend; beforehand: worked out from rest, quicker; each point goes with its neighbourhood",
    )


def _said_of_smoothing(c: Character, p: After) -> str:
    if not p.rounds:
        return "No smoothing after skinning"
    return f"Smooth {'after skinning' if p.by == 'posed' else 'the skin beforehand'}, {p.rounds} rounds"


@step("skin.after", After, _said_of_smoothing)
def after(character: Character, p: After) -> Character:
    """Smooth the posed skin, keeping what was modelled (delta mush); what goes out is solved to come near it."""
    return character.with_(skin=_skin_of(character).model_copy(update={"smoothing": p.rounds, "smoother": p.by}))


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
    return character.with_(skin=skin.model_copy(update={"locked": tuple(n for n in skin.joints if n in changed)}))


Share = Annotated[float, Field(ge=0.0, le=1.0)]
MOST_PLACES = 20_000  # of one stroke


class Paint(Params):
    """A stroke.  `samples`: triangle, its second and third corner's share, press, and the way one looks, at rest."""

    brush: Literal["add", "take", "set", "even", "sharpen", "blend"]
    joint: str = Field("", max_length=200, description="whose weight; of no account where all are evened or sharpened")
    radius: float = Field(0.05, gt=1e-6, lt=1e3, description="metres, along the skin")
    strength: Share = Field(0.5, description="what the stroke comes to in its middle")
    value: Share = Field(1.0, description="what “bring to” brings it to")
    fading: Share = Field(1.0, description="the share of the radius over which it fades; 0: a hard rim")
    through: bool = Field(False, description="all that lies in the ball round the hand, not along the skin")
    front: bool = Field(True, description="only what faces the eye")
    both_sides: bool = Field(True, description="the mirrored place too, for the joint's partner")
    samples: list[tuple[float, float, float, float, float, float, float]] = Field(min_length=1, max_length=MOST_PLACES)

    def as_brush(self) -> Brush:
        return Brush(
            kind=self.brush, joint=self.joint, radius=self.radius, strength=self.strength, value=self.value,
            fading=self.fading, through=self.through, front=self.front, both=self.both_sides,
        )  # fmt: skip


DONE = {
    "add": "Added weight of {}", "take": "Took away weight of {}", "set": "Brought the weight of {} to {:.2f}",
    "even": "Evened weights out", "sharpen": "Sharpened weights", "blend": "Brought the blend to {1:.2f}",
}  # fmt: skip


def _stroke_said(c: Character, p: Paint) -> str:
    words = DONE[p.brush].format(p.joint.replace("_", " "), p.value)
    return words + (", both sides" if p.both_sides else "")


def _changed(before: Character, after: Character) -> str:
    """How many points are held, or blended, otherwise."""
    if after.arrays.get("skin/mix") is not before.arrays.get("skin/mix"):
        return _points(int((mix_of(after) != mix_of(before)).sum()))
    a, b = table_of(before), table_of(after)
    names = tuple(dict.fromkeys((*a.joints, *b.joints)))
    off = abs(a.with_joints(names).held - b.with_joints(names).held)
    return _points(int((np.asarray(off.max(1).todense()).ravel() > 1e-6).sum()))


@step("skin.paint", Paint, _stroke_said, figures=_changed)
def paint(character: Character, p: Paint) -> Character:
    """Paint weights: one stroke of a brush over the skin."""
    painting = Painting(character, p.as_brush())
    painting.put(p.samples)
    return painting.result()


class OfPoints(Params):
    """`points`: of the mesh, by number."""

    points: Points


def _points(n: int) -> str:
    return f"{n:,} {'point' if n == 1 else 'points'}"


class Hold(OfPoints):
    joint: str
    weight: Share


@step("skin.hold", Hold, lambda c, p: f"Let {p.joint} hold {_points(len(p.points))} by {p.weight:.2f}")
def hold(character: Character, p: Hold) -> Character:
    """Let a joint hold chosen points by so much."""
    return edits.held_by(character, edits.checked(character, p.points), p.joint, p.weight)


class Gradient(OfPoints):
    joint: str
    start: Place
    end: Place
    low: Share = 0.0
    high: Share = 1.0


@step(
    "skin.gradient",
    Gradient,
    lambda c, p: f"Ran {p.joint} from {p.low:.2f} to {p.high:.2f} over {_points(len(p.points))}",
)
def gradient(character: Character, p: Gradient) -> Character:
    """Let a joint's weight run from one place to another over chosen points."""
    ends = np.array(p.start), np.array(p.end)
    return edits.graded(character, edits.checked(character, p.points), p.joint, *ends, p.low, p.high)


class Scale(OfPoints):
    factors: dict[str, Annotated[float, Field(ge=0.0, le=100.0)]] = Field(min_length=1, max_length=2000)


@step("skin.scale", Scale, lambda c, p: f"Scaled {_few(list(p.factors))} over {_points(len(p.points))}")
def scale(character: Character, p: Scale) -> Character:
    """Scale what joints hold of chosen points; the others share the rest."""
    return edits.scaled(character, edits.checked(character, p.points), p.factors)


class Swap(OfPoints):
    a: str
    b: str


@step("skin.swap", Swap, lambda c, p: f"Swapped {p.a} and {p.b} over {_points(len(p.points))}")
def swap(character: Character, p: Swap) -> Character:
    """Let two joints hold chosen points as the other did."""
    return edits.swapped(character, edits.checked(character, p.points), p.a, p.b)


class Row(OfPoints):
    held: dict[str, Share] = Field(min_length=1, max_length=64, description="joint → weight; scaled to sum to one")


@step("skin.row", Row, lambda c, p: f"Put a row of weights on {_points(len(p.points))}")
def row(character: Character, p: Row) -> Character:
    """Put one row of weights on chosen points."""
    return edits.copied(character, edits.checked(character, p.points), p.held)


class Even(Params):
    points: Points = Field([], description="none: all of the skin")
    share: Share = 0.5
    rounds: int = Field(4, ge=1, le=50)


@step(
    "skin.even",
    Even,
    lambda c, p: f"Evened weights out over {_points(len(p.points)) if p.points else 'the whole skin'}",
)
def even(character: Character, p: Even) -> Character:
    """Even weights out along the surface, over chosen points or all."""
    return edits.evened(character, _or_all(character, p.points), p.share, p.rounds)


@step("skin.from_neighbours", OfPoints, lambda c, p: f"Took {_points(len(p.points))} from what lies round them")
def from_neighbours(character: Character, p: OfPoints) -> Character:
    """Let chosen points be held as what lies round them."""
    return edits.from_neighbours(character, edits.checked(character, p.points))


@step("skin.nearest", OfPoints, lambda c, p: f"Hung {_points(len(p.points))} on their nearest bones")
def nearest(character: Character, p: OfPoints) -> Character:
    """Let each chosen point be held by its nearest bone alone."""
    return edits.rigid(character, edits.checked(character, p.points))


class MirrorWeights(Params):
    side: Literal["left", "right"] = Field("left", description="the side that is copied")


@step("skin.mirror", MirrorWeights, lambda c, p: f"Mirrored weights from the {p.side}")
def mirror(character: Character, p: MirrorWeights) -> Character:
    """Mirror weights to the other side, by place; points in the middle hold both sides alike."""
    _skin_of(character)
    return edits.mirrored(character, p.side == "left")


class Round(Params):
    steps: int = Field(256, ge=4, le=65536, description="weights become whole numbers of one over this")


@step("skin.round", Round, lambda c, p: f"Rounded weights to 1/{p.steps:,}")
def round_weights(character: Character, p: Round) -> Character:
    """Round every weight to whole steps, as an engine may store them."""
    return edits.rounded(character, p.steps)


class Prune(Params):
    least: float = Field(0.01, ge=0.0, le=0.5, description="weights below this go")
    influences: int = Field(0, ge=0, le=8, description="the most joints that may hold a point; 0: as before")


@step(
    "skin.prune",
    Prune,
    lambda c, p: f"Dropped weights below {p.least:g}" + (f", kept {p.influences} a point" if p.influences else ""),
)
def prune(character: Character, p: Prune) -> Character:
    """Drop small weights, and keep at most so many a point."""
    return edits.pruned(character, p.least, p.influences)


class Carry(Params):
    """Weights with where they are: places and normals (m, 3), holders (m, k) by number in `joints`, and weights (m, k)."""

    joints: list[str] = Field(min_length=1, max_length=2000)
    places: Array
    normals: Array
    holders: Array
    weights: Array


@step("skin.carry", Carry, lambda c, p: f"Took weights from {p.places.shape[0]:,} points", long=True)
def carry(character: Character, p: Carry) -> Character:
    """Take weights from elsewhere: by number where the points are the same, else by place and by which way the skin faces."""
    m = p.places.shape[0] if p.places.ndim else 0
    fits = p.places.shape == p.normals.shape == (m, 3) and p.holders.ndim == 2 and p.holders.shape == p.weights.shape
    if not fits or len(p.holders) != m:
        raise BadParameters(
            "Places, normals, holders and weights don't fit each other.", "skin.carry", "Save them again."
        )
    if not {p.places.dtype.kind, p.normals.dtype.kind} <= set("fiu"):
        raise BadParameters("Places and normals are numbers.", "skin.carry", "Save them again.")
    if p.holders.dtype.kind not in "ui" or p.weights.dtype.kind != "f" or not m:
        raise BadParameters("Holders are whole numbers, weights are not.", "skin.carry", "Save them again.")
    if p.holders.max(initial=0) >= len(p.joints) or p.holders.min(initial=0) < 0 or p.weights.min(initial=0) < 0:
        raise BadParameters("A weight is negative, or of a joint that isn't listed.", "skin.carry", "Save them again.")
    table = WeightTable.from_rows(tuple(p.joints), p.holders.astype(np.int64), p.weights.astype(np.float32))
    return carried(character, Source(p.places.astype(float), p.normals.astype(float), table))[0]


class FromPart(Params):
    part: str
    source: str = Field(description="the part whose weights are taken, by place and by which way the skin faces")


@step("skin.from_part", FromPart, lambda c, p: f"Let {p.part} be held as {p.source} is beside it")
def from_part(character: Character, p: FromPart) -> Character:
    """Let a part, such as a coat, be held as another is beside it."""
    _skin_of(character)
    part, source = character.part(p.part), character.part(p.source)
    if part.name == source.name:
        raise StepRefused("A part can't be held as itself.", part.name, "Choose another to take from.")
    return carried(character, source_of(character, np.arange(*source.points)), np.arange(*part.points))[0]


class KeepOff(Params):
    joint: str
    where: str = Field(max_length=200, description="a limb in words, as the list of what joints move says it")
    both_sides: bool = True


@step(
    "skin.keep_off",
    KeepOff,
    lambda c, p: f"Kept {p.joint} off {p.where}" + (", both sides" if p.both_sides else ""),
    figures=_changed,
)
def keep_off(character: Character, p: KeepOff) -> Character:
    """Take a joint off a limb that it should not move, or off patches apart from its own."""
    _skin_of(character)
    changed = edits.kept_off(character, p.joint, p.where)
    other = opposite_name(p.joint), _other_side(p.where)
    if p.both_sides and other != (p.joint, p.where) and any((s.joint, s.where) == other for s in strays_of(changed)):
        changed = edits.kept_off(changed, *other)
    return changed


class ZoneSaid(Params):
    joint: str
    start: Place
    end: Place
    start_radius: float = Field(gt=0, lt=1e3, description="metres")
    end_radius: float = Field(gt=0, lt=1e3)
    soft: Share = Field(0.5, description="the share of the radius over which the hold fades, from the rim in")

    def as_zone(self) -> Zone:
        return Zone(self.joint, self.start, self.end, self.start_radius, self.end_radius, self.soft)


class Zones(Params):
    zones: list[ZoneSaid] = Field(min_length=1, max_length=64)
    both_sides: bool = True


@step("skin.zones", Zones, lambda c, p: f"Sized the zone of {_few([z.joint for z in p.zones])}", figures=_changed)
def zones(character: Character, p: Zones) -> Character:
    """Let bones hold what lies in their zones: tapered capsules along them."""
    _skin_of(character)
    zoning, asked = Zoning(character), [z.as_zone() for z in p.zones]
    zoning.put(both_sides(character, asked) if p.both_sides else asked)
    return zoning.result()


def _other_side(words: str) -> str:
    """“wing L” → “wing R”."""
    return words[:-1] + {"L": "R", "R": "L"}[words[-1]] if words.endswith((" L", " R")) else words


def _or_all(character: Character, points: list[int]) -> np.ndarray:
    return edits.checked(character, points) if points else np.arange(len(character.points))


def _skin_of(character: Character) -> Skin:
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it first.")
    return character.skin


def _few(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
