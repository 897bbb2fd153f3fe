"""The built-in plans: one for each body type, laid into any body in any pose, with how sure each joint is."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel, ValidationError

from ..character import Character, opposite_name
from ..errors import BadParameters, NotFound, StepRefused, VonkelError, first_fault
from .accessories import apart_words, body_alone
from .anatomy.doubt import SURE, Verdict, usual, verdict
from .anatomy.likeness import doubt_by_likeness
from .biped import BipedOptions, sketch_biped
from .carrying import carried
from .chain import ChainPlanOptions, sketch_chain
from .finned import FinnedOptions, sketch_finned
from .fitting import BROKEN, FITS, NoSuchBody, fit_posed, second_opinion, straightened, tail_to_its_tip
from .frame import find_plane
from .head import HeadPlanOptions, sketch_head
from .many_legged import ManyLeggedOptions, sketch_many_legged
from .quadruped import BY_BUILD, QuadrupedOptions, sketch_quadruped
from .sketch import Sketch
from .template import sketch_from_template
from .winged import WingedOptions, sketch_winged

log = logging.getLogger("vonkel.plans")
Places = dict[str, tuple[float, float, float]]
# Each with its options and the way it is laid into a body that is the same on both sides of x = 0.
PLANS: dict[str, tuple[str, type[BaseModel], Callable[..., Sketch]]] = {
    "biped": ("Stands on two legs: spine, neck, head, arms, hands, legs, feet, and a tail where there is one.", BipedOptions, sketch_biped),
    "quadruped": ("Stands on four legs, flat-footed, on toes or on hooves: trunk along z, neck, head, tail.", QuadrupedOptions, sketch_quadruped),
    "winged": ("Wings spread to the sides, with fingers or without, on two legs.", WingedOptions, sketch_winged),
    "many-legged": ("Two or more pairs of legs spread to the sides, head, abdomen, feelers.", ManyLeggedOptions, sketch_many_legged),
    "finned": ("A long trunk with flippers or fins.", FinnedOptions, sketch_finned),
    "chain": ("One long chain: larva, snake, trunk, rope.", ChainPlanOptions, sketch_chain),
    "head": ("A head alone: base, neck, jaw, eyes, ears.", HeadPlanOptions, sketch_head),
}  # fmt: skip
TAILED = ("biped", "quadruped")  # whose tails may end in a thread
GUESSED = 0.08  # the spread of what only the symmetric plan found, with nothing to compare it to


def check_plan(plan: str) -> None:
    """Raises NotFound for what is no built-in plan."""
    if plan not in PLANS:
        raise NotFound(f"There is no plan “{plan}”.", "", f"There are: {', '.join(PLANS)}.")


def sketch_of(
    character: Character, plan: str, options: dict[str, Any], pins: dict[str, np.ndarray] | None = None
) -> Sketch:  # fmt: skip
    """A plan's joints on both sides as the shape puts them, with the spread of each.

    pins: joints that were put right by hand; they tell the limbs apart.  Raises NotFound, BadParameters and StepRefused.
    """
    check_plan(plan)
    character = body_alone(character)
    _, model, draw = PLANS[plan]
    try:
        checked = model(**options)
    except ValidationError as error:
        field, why = first_fault(error, "options")
        raise BadParameters(f"“{field}”: {why}.", plan) from None
    even = lambda c: draw(c, checked)  # noqa: E731
    try:
        if plan not in FITS:
            return _alone(character, even)
        try:
            posed = fit_posed(character, plan, checked, pins=pins)
        except NoSuchBody as refused:
            return _or_refuse(character, even, refused)
        # What the rigger chose of a leg's build, the posed fit doesn't look for.
        settled = BY_BUILD if getattr(checked, "legs", "auto") != "auto" else ()
        sketch = second_opinion(character, plan, posed, even, settled)
        if sketch.reading is not None:
            doubt_by_likeness(sketch, sketch.reading, plan)
            if plan in TAILED and "tail_end" not in (pins or {}):
                tail_to_its_tip(character, sketch)
            sketch.reading = None
        return sketch
    except BROKEN as error:
        # A shape may lack whatever the plan looks for, in more ways than its own refusals foresee.
        log.info("the plan %s can't read %s", plan, character.name, exc_info=error)
        raise StepRefused(
            f"The plan “{plan}” can't make out this shape.", character.name,
            "Choose another plan, put its landmarks by hand, or draw the joints.",
        ) from None  # fmt: skip


def _alone(character: Character, even: Callable[[Character], Sketch], doubt: float = 0.0) -> Sketch:
    """The symmetric plan in the body's own frame, with nothing to compare it to."""
    frame = find_plane(character, np.array([0.0, 0.0, 1.0]))
    sketch = even(straightened(character, frame)).carried_to(frame).both_sides()
    for n, (_, _, role, _) in sketch.found.items():
        sketch.spread[n] = float(np.hypot(usual(role), max(doubt, sketch.spread.get(n, 0.0))))
    return sketch


def _or_refuse(character: Character, even: Callable[[Character], Sketch], refused: NoSuchBody) -> Sketch:
    if character.size <= 0 or len(character.points) < 4:
        raise refused
    try:
        sketch = _alone(character, even, GUESSED)
    except (VonkelError, *BROKEN):
        raise refused from None
    if not sketch.frame.even:
        raise refused
    sketch.words.append("Laid by symmetry alone: its limbs can't be told apart by their ends.")
    return sketch


# --- landmarks ------------------------------------------------------------------------------------------------------------
@dataclass(frozen=True)
class Landmark:
    """What the rigger may put right before the rest follows: its words, place (3,) metres, spread as a share of the
    size, and the verdict in words."""

    label: str
    place: np.ndarray
    spread: float

    @property
    def sure(self) -> Verdict:
        return verdict(self.spread)


@dataclass(frozen=True)
class Found:
    """What a plan found before anything is laid: landmarks of both sides, what is to be said, and, where it couldn't be
    laid, the ends that were seen: [(words, place)]."""

    marks: dict[str, Landmark]
    words: tuple[str, ...]
    seen: tuple[tuple[str, np.ndarray], ...] = ()
    turn: float = 0.0  # degrees by which it stands turned from facing +Z
    plane: bool = False  # whether its middle joints lie on x = 0


def find_landmarks(
    character: Character, plan: str, options: dict[str, Any], given: Places | None = None
) -> Found:  # fmt: skip
    """What a plan finds by the shape, for the rigger to put right; where it can't be laid, landmarks to be put by hand."""
    pins = {n: np.array(p, float) for n, p in (given or {}).items()}
    seen: tuple[tuple[str, np.ndarray], ...] = ()
    try:
        sketch = sketch_of(character, plan, options, pins)
        words = list(sketch.words)
    except StepRefused as refused:
        sketch = sketch_from_template(character, plan)
        words = [refused.what, "Nothing is laid yet: drag each landmark to where it belongs, then lay the joints."]
        seen = refused.seen if isinstance(refused, NoSuchBody) else ()
    if pins:
        sketch = carry(character, sketch, pins)
    marks = {n: Landmark(word, sketch.place(n), sketch.spread.get(n, 0.02)) for n, word in sketch.marks.items()}
    words += [w for w in (apart_words(character),) if w]
    return Found(marks, tuple(words), seen, sketch.frame.degrees, sketch.frame.even and sketch.frame.straight)


def landmarks_of(character: Character, plan: str, options: dict[str, Any]) -> dict[str, tuple[str, np.ndarray]]:
    """What a plan found by the shape, for the rigger to put right: name → (its words, place (3,) metres)."""
    sketch = sketch_of(character, plan, options)
    return {n: (word, sketch.place(n)) for n, word in sketch.marks.items()}


def carry(character: Character, sketch: Sketch, given: dict[str, np.ndarray]) -> Sketch:
    """The sketch with some joints put elsewhere and the rest carried along.  On a body that is the same on both sides
    a joint put right on one side is put right on the other."""
    frame = sketch.frame
    target = dict(given)
    if frame.even:
        for n, p in given.items():
            other = opposite_name(n)
            if other != n and other in sketch.found:
                target.setdefault(other, frame.mirrored(p))
    marks = list(dict.fromkeys([*sketch.marks, *target]))
    source = np.array([sketch.place(n) for n in marks])
    goal = np.array([target.get(n, sketch.place(n)) for n in marks])
    names = list(sketch.found)
    places = np.array([sketch.place(n) for n in names])
    if frame.even:
        moved = frame.back(carried(frame.own(source), frame.own(goal), frame.own(places)))
    else:
        moved = carried(source, goal, places, alike=False)
    for n, p in zip(names, moved, strict=True):
        parent, _, role, deforms = sketch.found[n]
        sketch.found[n] = (parent, target.get(n, p), role, deforms)
    for n in target:
        sketch.spread[n] = 0.0
    return sketch


def lay_plan(character: Character, plan: str, options: dict[str, Any], landmarks: Places | None = None) -> Character:
    """A plan's joints fitted to the character's mesh, in place of any joints there are.

    landmarks: those put right by hand; the joints between them follow.  Each joint keeps its doubt.
    """
    given = {n: np.array(p, float) for n, p in (landmarks or {}).items()}
    try:
        sketch = sketch_of(character, plan, options, given)
    except StepRefused:
        if len(given) < 3:
            raise
        sketch = sketch_from_template(character, plan)
    unknown = set(given) - set(sketch.marks)
    if unknown:
        raise NotFound(f"The plan has no landmark “{sorted(unknown)[0]}” here.", plan, "Fit the plan again.")
    if given:
        sketch = carry(character, sketch, given)
    return with_doubts(sketch.laid(character, plan), sketch)


def with_doubts(character: Character, sketch: Sketch) -> Character:
    """Joints with how far each may lie from where it should; nothing where it is sure."""
    doubts = {n: round(min(s, 1.0), 4) if s >= SURE else 0.0 for n, s in sketch.spread.items()}
    joints = tuple(j.model_copy(update={"doubt": doubts.get(j.name, 0.0)}) for j in character.joints)
    return character.with_(joints=joints)
