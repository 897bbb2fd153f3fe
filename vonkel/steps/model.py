"""Steps of the Model station: size, standing, mends and parts.  Cuts into the mesh are in `surgery.py`."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from ..core.character import Character, Picture, unique_name
from ..core.character.words import clean_name, few
from ..core.errors import BadParameters, NotFound, StepRefused
from ..core.formats.pictures import picture_size
from ..core.geometry import mending
from ..core.geometry.health import health, mirror_partners
from ..core.geometry.measures import measured_length
from ..core.geometry.parts import with_parts
from ..core.geometry.topology import faces_of
from ..core.geometry.transform import UPRIGHT, transformed
from ..core.rig.fitting import sized_kits
from ..core.tolerances import MAX_PARTS, PAIR
from .registry import Array, Params, step


class Resize(Params):
    measure: Literal["height", "width", "length", "place", "between", "around"] = "height"
    metres: float = Field(gt=0.001, lt=1000.0, description="what that measure must be")
    part: str = Field("", description="measure this part only; empty: everything")
    points: tuple[int, ...] = Field((), max_length=2, description="the picked points of the other measures")
    axis: Literal["", "x", "y", "z"] = Field("", description="between: along it; around: across it")


def _resized(c: Character, p: Resize) -> str:
    what = {"place": "height at the picked point", "between": "picked distance", "around": "picked girth"}
    return f"Set the {what.get(p.measure, p.measure)} to {100 * p.metres:.4g} cm"


@step("model.resize", Resize, _resized, figures=lambda a, b: f"everything × {b.size / a.size:.4g}")
def resize(character: Character, p: Resize) -> Character:
    """Scale mesh, joints, controls and shapes together until a measure is right."""
    now = measured_length(character, p.measure, p.points, p.axis, p.part)
    if now < 1e-9:
        raise BadParameters(f"The model has no {p.measure} to measure.", character.name, "Choose another measure.")
    scale = p.metres / now
    return sized_kits(transformed(character, np.eye(3) * scale, np.zeros(3)), scale)


class Stand(Params):
    up: Literal["y", "-y", "z", "-z", "x", "-x"] = Field("y", description="which axis of the model points up now")
    turn: float = Field(0.0, gt=-360, lt=360, description="degrees about the upright axis, so that it faces +Z")
    ground: bool = Field(True, description="put the lowest point on the ground")
    centre: bool = Field(True, description="put the middle of its width and length over the origin")


def _stood(c: Character, p: Stand) -> str:
    return (
        "Stood the model upright"
        + (f" ({p.up} was up)" if p.up != "y" else "")
        + (f", turned by {p.turn:g}°" if p.turn else "")
    )


@step("model.stand", Stand, _stood, figures=lambda a, b: f"lowest point {_cm(a, 1)} → {_cm(b, 1)}")
def stand(character: Character, p: Stand) -> Character:
    """Set up axis, facing, ground and centre; everything settled into the points."""
    a = np.radians(p.turn)
    c, s = round(float(np.cos(a)), 15), round(float(np.sin(a)), 15)
    rotation = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]) @ UPRIGHT[p.up]
    moved = character.points @ rotation.T
    low, high = moved.min(0), moved.max(0)
    offset = np.zeros(3)
    if p.ground:
        offset[1] = -low[1]
    if p.centre:
        offset[0] = -0.5 * (low[0] + high[0])
        # A tail must not drag the body off the middle: length is centred on the mean of the points.
        offset[2] = -float(moved[:, 2].mean())
    return transformed(character, rotation, offset)


def _cm(c: Character, axis: int) -> str:
    return f"{100 * float(c.points[:, axis].min()):.1f} cm"


class Settle(Params):
    parts: tuple[str, ...] = Field((), description="which; none: all of them")


@step(
    "model.settle", Settle, lambda c, p: "Settled transforms into the points",
    figures=lambda a, b: f"{_carrying(a)} parts carried one, {_carrying(b)} do now; no point moved",
)  # fmt: skip
def settle(character: Character, p: Settle) -> Character:
    """Let parts forget the transforms they were brought in under: scale 1, no turn, no offset; no point moves."""
    for n in p.parts:
        character.part(n)
    chosen = [q.name for q in character.parts if q.carried is not None and (not p.parts or q.name in p.parts)]
    if not chosen:
        raise StepRefused("No part carries a transform.", character.name)
    parts = tuple(q.model_copy(update={"carried": None}) if q.name in chosen else q for q in character.parts)
    return character.with_(parts=parts)


def _carrying(c: Character) -> int:
    return sum(p.carried is not None for p in c.parts)


# -- mends -------------------------------------------------------------------------------------------------------
def mesh_counts(a: Character, b: Character) -> str:
    return f"points {len(a.points):,} → {len(b.points):,}, faces {_faces(a):,} → {_faces(b):,}"


def _faces(c: Character) -> int:
    return len(c.arrays["face_starts"]) - 1


class Weld(Params):
    millimetres: float = Field(0.1, gt=0, le=100, description="points nearer than this become one")
    across_parts: bool = False


@step("model.weld", Weld, lambda c, p: f"Welded points within {p.millimetres:g} mm", figures=mesh_counts)
def weld(character: Character, p: Weld) -> Character:
    """Make points that lie together one; faces that fall flat by it go."""
    return mending.welded(character, p.millimetres / 1000.0, p.across_parts)


class Outward(Params):
    parts: tuple[str, ...] = Field((), description="which; none: all of them")


def _turned(a: Character, b: Character) -> str:
    before, after = health(a), health(b)
    return f"edges at odds {before.turned_edges} → {after.turned_edges}"


@step("model.outward", Outward, lambda c, p: "Turned faces outward", figures=_turned)
def outward(character: Character, p: Outward) -> Character:
    """Turn faces so that neighbours agree and the outside is outside."""
    return mending.outward(character, p.parts)


class OfPart(Params):
    part: str


@step("model.flip", OfPart, lambda c, p: f"Turned all faces of {p.part} over")
def flip(character: Character, p: OfPart) -> Character:
    """Turn every face of a part over."""
    return mending.flipped(character, faces_of(character, [character.part(p.part)]))


class Strays(Params):
    loose: bool = Field(True, description="points that no face uses")
    flat: bool = Field(True, description="faces without area")
    doubled: bool = Field(True, description="faces that lie twice in the same place")
    island_share: float = Field(
        0.03, ge=0, le=0.5, description="islands smaller than this share of their part's largest"
    )


@step("model.clear_strays", Strays, lambda c, p: "Took strays away", figures=mesh_counts)
def clear_strays(character: Character, p: Strays) -> Character:
    """Delete loose points, flat and doubled faces, and crumbs."""
    return mending.without_strays(character, p.loose, p.flat, p.doubled, p.island_share)


class Symmetrise(Params):
    millimetres: float = Field(10.0, gt=0, le=1000, description="how far from its mirrored place a partner may lie")
    side: Literal["both", "left", "right"] = Field("both", description="both: the mean; or keep that side")


def _evened(a: Character, b: Character) -> str:
    before, after = (mirror_partners(c)[0] for c in (a, b))
    alone = [int((d > PAIR * c.height).sum()) for d, c in ((before, a), (after, b))]
    return (
        f"largest difference {1000 * before.max():.2f} → {1000 * after.max():.2f} mm, "
        f"points without partner {alone[0]} → {alone[1]}"
    )


@step("model.symmetrise", Symmetrise, lambda c, p: "Made left and right equal", figures=_evened)
def symmetrise(character: Character, p: Symmetrise) -> Character:
    """Put partners across the body plane on mirrored places."""
    return mending.symmetrised(character, p.millimetres / 1000.0, p.side)


# -- parts -------------------------------------------------------------------------------------------------------
class EditPart(Params):
    part: str
    name: str = Field("", max_length=60)
    role: Literal["", "skin", "eye", "lid", "teeth", "tongue", "rigid", "prop", "line"] = ""
    colour: str = Field("", pattern=r"^(#[0-9a-f]{6})?$")
    shading: Literal["", "smooth", "hard"] = ""
    hidden: bool | None = None
    locked: bool | None = None


def _part_sentence(c: Character, p: EditPart) -> str:
    said = [f"named {p.name}"] * bool(p.name) + [f"set to {p.role}"] * bool(p.role) + ["coloured"] * bool(p.colour)
    said += [f"shaded {p.shading}"] * bool(p.shading)
    said += ["hidden" if p.hidden else "shown"] * (p.hidden is not None)
    said += ["locked" if p.locked else "unlocked"] * (p.locked is not None)
    return f"Part {p.part} " + (", ".join(said) or "left as it was")


@step("model.part", EditPart, _part_sentence)
def edit_part(character: Character, p: EditPart) -> Character:
    """Name a part, say what it is, colour, shade, hide or lock it."""
    old = character.part(p.part)
    changes: dict[str, Any] = {k: v for k, v in (("role", p.role), ("colour", p.colour), ("shading", p.shading)) if v}
    changes |= {k: v for k, v in (("hidden", p.hidden), ("locked", p.locked)) if v is not None}
    if p.name and p.name != old.name:
        if unique_name(p.name, {q.name for q in character.parts}) != p.name:
            raise BadParameters(f"There is a part called “{p.name}” already.", character.name, "Choose another name.")
        changes["name"] = p.name
    new = type(old).model_validate(old.model_dump() | changes)
    return character.with_(parts=tuple(new if q.name == p.part else q for q in character.parts))


class Split(Params):
    part: str
    by: Literal["island", "group"] = "island"


@step(
    "model.split_part", Split, lambda c, p: f"Split {p.part} by {p.by}",
    figures=lambda a, b: f"parts {len(a.parts)} → {len(b.parts)}",
)  # fmt: skip
def split_part(character: Character, p: Split) -> Character:
    """Make a part several: by connected island, or by the groups that its faces came with."""
    made = mending.split_part(character, p.part, p.by)
    if len(made.parts) > MAX_PARTS:
        raise StepRefused(f"That would make {len(made.parts)} parts.", p.part, f"{MAX_PARTS} at most are kept.")
    return made


class Join(Params):
    parts: tuple[str, ...] = Field(min_length=2, description="the first one's name and role stay")


@step("model.join_parts", Join, lambda c, p: f"Joined {', '.join(p.parts[1:])} to {p.parts[0]}")
def join_parts(character: Character, p: Join) -> Character:
    """Make several parts one."""
    return mending.joined_parts(character, p.parts)


@step("model.remove_part", OfPart, lambda c, p: f"Took out the part {p.part}", figures=mesh_counts)
def remove_part(character: Character, p: OfPart) -> Character:
    """Take a part out of the character."""
    return mending.without_part(character, p.part)


class AddParts(Params):
    names: tuple[str, ...] = Field(min_length=1, max_length=MAX_PARTS)
    points: Array = Field(description="(n, 3) metres")
    point_part: Array = Field(description="(n,) into names, rising")
    face_starts: Array
    face_corners: Array
    line_starts: Array
    line_points: Array


@step(
    "model.add_parts",
    AddParts,
    lambda c, p: f"Brought in {few(p.names, 4)}",
)
def add_parts(character: Character, p: AddParts) -> Character:
    """Bring more parts in, of faces or drawn lines; skin and shapes of the others stay as they are."""
    return with_parts(
        character, p.names, p.points, p.point_part, (p.face_starts, p.face_corners), (p.line_starts, p.line_points)
    )


class Rename(Params):
    name: str = Field(min_length=1, max_length=80)
    about: str = Field("", max_length=200)


class Accept(Params):
    pass


@step("model.accept_left_out", Accept, lambda c, p: "Noted what of the file was left out")
def accept_left_out(character: Character, p: Accept) -> Character:
    """Put out of mind what of its file couldn't be used."""
    if not character.left_out:
        raise StepRefused("Nothing was left out.", character.name)
    return character.with_(left_out=())


@step("model.rename", Rename, lambda c, p: f"Called the character {p.name}")
def rename(character: Character, p: Rename) -> Character:
    """Give the character a name and a word about who it is."""
    name = p.name.strip()
    if not name or not name.isprintable():
        raise BadParameters("A name needs something to read.", character.name, "Type a name.")
    if "/" in name or "\\" in name:
        raise BadParameters("A name can't have / or \\ in it.", name, "Put a dash in its place.")
    return character.with_(name=name, about=p.about.strip())


# -- pictures ----------------------------------------------------------------------------------------------------
class AddPicture(Params):
    name: str = Field(min_length=1, max_length=60)
    view: Literal["front", "side", "top"] = "front"
    data: Array = Field(description="the bytes of a PNG or JPEG file, uint8")


@step("model.add_picture", AddPicture, lambda c, p: f"Laid the picture {p.name} under the {p.view} drawing")
def add_picture(character: Character, p: AddPicture) -> Character:
    """Lay a reference picture under a drawing, as high as the model to begin with."""
    data = np.ascontiguousarray(p.data, np.uint8).ravel()
    wide, high = picture_size(data.tobytes(), p.name)
    name = unique_name(clean_name(p.name) or "picture", {q.name for q in character.pictures})
    k = {"front": (0, 1, 1.0), "side": (2, 1, -1.0), "top": (0, 2, 1.0)}[p.view]
    low, top = character.points.min(0), character.points.max(0)
    middle = 0.5 * (low + top)
    up = -middle[2] if p.view == "top" else middle[1]
    tall = float(top[k[1]] - low[k[1]]) or character.size
    made = Picture(name=name, view=p.view, place=(float(k[2] * middle[k[0]]), float(up)), width=tall * wide / high)
    return character.with_(pictures=character.pictures + (made,), arrays={f"picture/{name}": data})


class EditPicture(Params):
    picture: str
    place: tuple[float, float] | None = Field(None, description="its middle, metres right and up in the drawing")
    width: float | None = Field(None, gt=1e-4, lt=1e4, description="metres")
    strength: float | None = Field(None, ge=0, le=1)
    hidden: bool | None = None


@step("model.picture", EditPicture, lambda c, p: f"Set the picture {p.picture}")
def edit_picture(character: Character, p: EditPicture) -> Character:
    """Place and size a reference picture, and say how strongly it shows."""
    old = _picture(character, p.picture)
    changes = {k: v for k, v in p.model_dump(exclude={"picture"}).items() if v is not None}
    new = old.model_copy(update=changes)
    return character.with_(pictures=tuple(new if q.name == p.picture else q for q in character.pictures))


class NamedPicture(Params):
    picture: str


@step("model.remove_picture", NamedPicture, lambda c, p: f"Took the picture {p.picture} away")
def remove_picture(character: Character, p: NamedPicture) -> Character:
    """Take a reference picture away."""
    _picture(character, p.picture)
    return character.with_(
        pictures=tuple(q for q in character.pictures if q.name != p.picture), arrays={f"picture/{p.picture}": None}
    )


def _picture(c: Character, name: str) -> Picture:
    for q in c.pictures:
        if q.name == name:
            return q
    raise NotFound(f"There is no picture called “{name}”.", c.name, "Pick one from the list.")


class Texture(Params):
    data: Array = Field(description="the bytes of a PNG or JPEG file, uint8; none of them: take the texture off")


@step("model.texture", Texture, lambda c, p: "Took the texture off" if not p.data.size else "Put a texture on")
def texture(character: Character, p: Texture) -> Character:
    """Show a picture on the mesh by its texture places."""
    if not p.data.size:
        return character.with_(arrays={"texture": None})
    if "uvs" not in character.arrays:
        raise StepRefused("The mesh has no texture places.", character.name, "Bring it in with its layout.")
    data = np.ascontiguousarray(p.data, np.uint8).ravel()
    picture_size(data.tobytes(), "texture")
    return character.with_(arrays={"texture": data})
