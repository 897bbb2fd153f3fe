"""Steps of the Face station."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field, ValidationError

from ..core.character import Arrays, Character, Face, Joint, Kit, MarkName, Side, unique_name, without_side
from ..core.errors import BadParameters, NotFound, StepRefused, first_fault
from ..core.expression import built, making
from ..core.face import eye_spheres
from ..core.face.cutting import with_cut_mouth
from ..core.face.marks import face_of, found_marks, kind_of, moved_mark
from ..core.formats.reading import array_from_npy
from ..core.geometry.mending import without_part
from ..core.joining import joined
from ..core.joints.edit import add_joint
from ..core.loading import loaded
from ..core.rig.fitting import add_kit
from ..core.soundness import unsound
from .model import mesh_counts
from .registry import Array, Params, Place, step
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


class JoinHead(Params):
    document: str = Field(min_length=2, max_length=64_000_000, description="the head's document, as in its file")
    names: list[str] = Field(max_length=4000, description="of its arrays")
    sizes: list[Annotated[int, Field(ge=1)]] = Field(max_length=4000, description="bytes of each array's .npy")
    arrays: Array = Field(description="the .npy files of its arrays, one after the other, uint8")
    onto: str = Field(min_length=1, description="the body's joint that it hangs on")
    below: str = Field("", description="the head's joint that is hung there; empty: its root")
    move: Place = Field((0, 0, 0), description="metres that the head is moved by first")


@step(
    "face.join_head",
    JoinHead,
    lambda c, p: f"Hung a head that was rigged alone on {p.onto}",
    figures=mesh_counts,
)
def join_head(character: Character, p: JoinHead) -> Character:
    """Join a head to its body: mesh, joints, controls, rules, skin, shapes, poses and marks, under their names."""
    head = _unpacked(character, p)
    return joined(character, head, p.onto, p.below, np.array(p.move))


def _unpacked(character: Character, p: JoinHead) -> Character:
    ends = np.cumsum([0, *p.sizes])
    if len(p.names) != len(p.sizes) or ends[-1] != len(p.arrays) or p.arrays.dtype != np.uint8:
        raise BadParameters("The head's arrays don't fit together.", character.name, "Send it again.")
    data = p.arrays.tobytes()
    arrays = {n: array_from_npy(data[a:b]) for n, a, b in zip(p.names, ends[:-1], ends[1:], strict=True)}
    if any(a is None for a in arrays.values()):
        raise BadParameters("An array of the head can't be read.", character.name, "Send it again.")
    try:
        head = loaded(p.document, Arrays({n: a for n, a in arrays.items() if a is not None}))
    except ValidationError as error:
        where, why = first_fault(error, "document")
        raise BadParameters(f"The head can't be read: {where}: {why}.", character.name, "Send it again.") from None
    fault = unsound(head)
    if fault:
        raise BadParameters(f"The head isn't whole: {fault}.", character.name, "Mend it first.")
    return head


# -- marks ---------------------------------------------------------------------------------------------------------------


class Find(Params):
    afresh: bool = Field(False, description="also what was put or looked at by hand")


def _found_said(c: Character, p: Find) -> str:
    return "Looked for what is where on the face" + (", all of it afresh" if p.afresh else "")


@step("face.find", Find, _found_said)
def find(character: Character, p: Find) -> Character:
    """Find eyes, lids, brows, nose, mouth, jaw and ears from the shape of the head, each with how sure it is."""
    face = found_marks(character, p.afresh)
    if not face.marks:
        raise StepRefused("Nothing of a face was found.", character.name, "Put the marks on by hand.")
    return character.with_(face=face)


class MoveMark(Params):
    mark: MarkName
    place: Place = Field(description="metres")
    both: bool = Field(True, description="the mark on the other side too, unless their link is open")


@step("face.mark", MoveMark, lambda c, p: f"Put the {kind_of(p.mark).label} where it is")
def mark(character: Character, p: MoveMark) -> Character:
    """Put a mark somewhere by hand."""
    return character.with_(face=moved_mark(character, p.mark, np.array(p.place), p.both))


class OfMarks(Params):
    marks: list[MarkName] = Field(min_length=1, max_length=80)


def _marks_there(character: Character, names: list[str]) -> Face:
    face = character.face or Face()
    known = {m.name for m in face.marks}
    lost = [n for n in names if n not in known]
    if lost:
        raise NotFound(f"The face has no mark “{lost[0]}”.", character.name, "Choose one of the list.")
    return face


@step(
    "face.accept",
    OfMarks,
    lambda c, p: f"Looked at {len(p.marks)} {'mark' if len(p.marks) == 1 else 'marks'} and left them",
)
def accept(character: Character, p: OfMarks) -> Character:
    """Say that marks are where they should be: they are sure from now on, and stay when the face is looked for again."""
    face = _marks_there(character, p.marks)
    marks = tuple(m.model_copy(update={"settled": True, "sure": 1.0}) if m.name in p.marks else m for m in face.marks)
    return character.with_(face=face.model_copy(update={"marks": marks}))


@step(
    "face.unmark",
    OfMarks,
    lambda c, p: f"Took off {len(p.marks)} {'mark' if len(p.marks) == 1 else 'marks'} of the face",
)
def unmark(character: Character, p: OfMarks) -> Character:
    """Take marks off: the face has no such thing."""
    face = _marks_there(character, p.marks)
    left = tuple(m for m in face.marks if m.name not in p.marks)
    return character.with_(face=face.model_copy(update={"marks": left}))


class Linked(Params):
    mark: MarkName
    linked: bool = True


@step("face.link", Linked, lambda c, p: f"{'Tied' if p.linked else 'Parted'} both sides of the {kind_of(p.mark).label}")
def link(character: Character, p: Linked) -> Character:
    """Whether a mark's partner on the other side goes along when it is moved."""
    face, word = _marks_there(character, [p.mark]), without_side(p.mark)
    apart = set(face.apart) - {word} if p.linked else set(face.apart) | {word}
    return character.with_(face=face.model_copy(update={"apart": tuple(sorted(apart))}))


class CutMouth(Params):
    centimetres: float = Field(
        0.0, ge=0.0, le=500.0, description="depth of the bag behind the lips; 0: a third of the head"
    )


@step(
    "face.cut_mouth",
    CutMouth,
    lambda c, p: "Cut the mouth open along its line, with a bag behind the lips",
    figures=mesh_counts,
)
def cut_mouth(character: Character, p: CutMouth) -> Character:
    """Cut a mouth that is only sculpted: through faces along a smooth line from corner to corner."""
    made = with_cut_mouth(character, face_of(character), p.centimetres / 100.0)
    return made.with_(face=found_marks(made))  # the lips have an edge now


class BuildEyes(Params):
    centimetres: float = Field(0.0, ge=0.0, le=500.0, description="radius of the ball; 0: what the marks say")
    upper: float = Field(
        38.0, ge=0.0, le=85.0, description="degrees: how far above its line of sight the upper lid stands"
    )
    lower: float = Field(30.0, ge=0.0, le=85.0, description="degrees: how far below it the lower lid stands")
    sides: tuple[Side, ...] = Field(("L", "R"), min_length=1, max_length=2)


@step("face.build_eyes", BuildEyes, lambda c, p: "Built plain eyes with two lids each", figures=mesh_counts)
def build_eyes(character: Character, p: BuildEyes) -> Character:
    """A ball, two lid shells and their joints where the marks of the eyes are; built ones are built anew."""
    if p.upper + p.lower < 5.0:
        raise BadParameters("The lids would leave no opening.", character.name, "Open them by 5° or more.")
    for name in built.built_parts(character, p.sides):
        character = without_part(character, name)
    eyes = built.built_eyes(
        character, face_of(character), p.centimetres / 100.0, np.radians(p.upper), -np.radians(p.lower), p.sides
    )
    return built.with_built_eyes(character, eyes)


# -- from marks to face --------------------------------------------------------------------------------------------------
MAKING = ("face.joints", "face.weights", "face.lids", "face.regions", "face.expressions", "face.controls")
"""What makes a face from its marks, in this order."""


class Nothing(Params):
    pass


@step("face.joints", Nothing, lambda c, p: "Put joints of eyes, jaw and tongue where the marks say")
def joints(character: Character, p: Nothing) -> Character:
    """Joints for eyes, jaw and tongue, made or moved to where the marks say."""
    return making.with_face_joints(character)


@step("face.weights", Nothing, lambda c, p: "Gave jaw, teeth, tongue and eyes what they hold")
def weights(character: Character, p: Nothing) -> Character:
    """What goes with the jaw, by the marks; what was painted since it was last made stays on top."""
    return making.with_face_weights(character)


@step("face.lids", Nothing, lambda c, p: "Made lids that shut")
def lids(character: Character, p: Nothing) -> Character:
    """Shapes of the lids, by the marks; what was sculpted on them since they were last made stays on top."""
    return making.with_lid_shapes(character)


@step("face.regions", Nothing, lambda c, p: "Made regions of ears, eyes, brows and mouth")
def regions(character: Character, p: Nothing) -> Character:
    """Regions by the marks: each ear whole, eyes, brows and mouth; those changed by hand since they were made stay."""
    return making.with_face_regions(character)


@step("face.expressions", Nothing, lambda c, p: "Made the action units and lip shapes")
def expressions(character: Character, p: Nothing) -> Character:
    """Shapes of action units and lips, by the marks; what was sculpted on them since they were last made stays on top."""
    return making.with_expressions(character)


class Controls(Params):
    pad: bool = Field(True, description="with a pad for the mouth")


@step("face.controls", Controls, lambda c, p: "Put on the controls of the face")
def controls(character: Character, p: Controls) -> Character:
    """Kits for eyes, lids, jaw, lips and tongue; visemes as poses; a pad for the mouth."""
    return making.with_face_controls(character, p.pad)
