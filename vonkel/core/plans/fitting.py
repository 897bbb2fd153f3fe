"""A plan fitted to a body in any pose: which limb is which, where its joints lie, and how sure all that is.

Left and right are found each on their own.  Where the body turns out to be the same on both sides, the plan made for
such bodies is laid too, in the body's own frame: where both tell the same story it has the finer eye, and where they
don't, every joint is doubted by how far they are apart.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ..character import Character, opposite_name
from ..character.words import few
from ..derived import derived
from ..errors import StepRefused, VonkelError
from ..geometry.measures import lengths_along
from ..geometry.transform import transformed
from ..progress import tell
from .anatomy.body import CELLS, Body, fill, look, webless
from .anatomy.doubt import FACING, FAIR, GUESS, add, doubt_roles, usual
from .anatomy.four import feet_apart, fit_four, standing
from .anatomy.likeness import Reading
from .anatomy.others import fit_chain, fit_finned, fit_many, fit_winged, many_roles
from .anatomy.roles import Roles, finned_roles, four_roles, upright_roles
from .anatomy.upright import fit_upright
from .frame import BodyFrame, find_plane, stands_straight
from .shapes import past_cells
from .sketch import Sketch

log = logging.getLogger("vonkel.plans")
# What arithmetic on a shape may fail with that lacks whatever a plan looks for.
BROKEN = (IndexError, ValueError, ArithmeticError, np.linalg.LinAlgError)
Lay = Callable[[Character, Body, Roles, Any], Sketch]


def _no_roles(body: Body) -> list[Roles]:
    return [Roles(0.0, {})]


FITS: dict[str, tuple[Callable[[Body], list[Roles]], Lay]] = {
    "biped": (upright_roles, fit_upright),
    "quadruped": (four_roles, fit_four),
    "winged": (lambda b: upright_roles(b, 12, True), fit_winged),
    "many-legged": (many_roles, fit_many),
    "finned": (finned_roles, fit_finned),
    "chain": (_no_roles, fit_chain),
}


# What is looked at again where no reading is good: limbs that touch hide each other's tips.
HIDDEN: dict[str, Callable[[Body], list[Body]]] = {"quadruped": feet_apart}
HOPELESS = 3.0  # how much dearer than fair readings one is that isn't worth showing
POOR, BETTER = 6.0, 1.0  # the cost of a reading beyond which it is none, and how much cheaper another must be


def _on_hands(sketch: Sketch) -> float:
    """What speaks against two legs: hands that stand on the ground like feet."""
    floor = min(float(sketch.place(f"{n}_{s}")[1]) for n in ("foot", "toe_end") for s in "LR")
    hips = max(float(sketch.place("hips")[1]) - floor, 1e-9)
    low = max(float(sketch.place(f"hand_{s}")[1]) - floor for s in "LR") / hips
    return 8.0 * max(0.0, 0.4 - low)


JUDGES: dict[str, Callable[[Sketch], float]] = {"biped": _on_hands, "quadruped": lambda s: 2.5 * standing(s)}
WANTED = {
    "biped": "a head, two arms and two legs",
    "quadruped": "a head and four feet under the trunk",
    "winged": "a head, two wings and two legs",
    "many-legged": "four or more legs on the ground",
    "finned": "a head, an end and fins between them",
}  # fmt: skip


class NoSuchBody(StepRefused):
    """No way to read a body as the plan wants it; `seen` are its tips: [(words, place (3,))]."""

    seen: tuple[tuple[str, np.ndarray], ...] = ()


@derived("points", "face_starts", "face_corners", "parts", most=3)
def body_for(character: Character, plan: str) -> Body:
    """What a plan starts from: cells, tips and their table; kept, as landmarks are put right one after another."""
    solid = fill(character, 70_000, 300.0) if plan == "winged" else fill(character, CELLS)
    if plan == "winged":
        solid = webless(solid)
    return look(character, solid, 0.05 if plan in ("finned", "winged") else 0.07)


def _different(a: Roles, b: Roles) -> bool:
    """Whether two readings put different things at the ends of the limbs, whatever is left or right."""
    for names in (("head",), ("end", "twin"), ("hand_a", "hand_b"), ("foot_c", "foot_d")):
        if {a.tips.get(n) for n in names} != {b.tips.get(n) for n in names}:
            return True
    return not a.tips and a is not b


def fit_posed(
    character: Character, plan: str, options: Any, body: Body | None = None, pins: dict[str, np.ndarray] | None = None
) -> Sketch:  # fmt: skip
    """Joints on both sides with their spreads.  pins: joints put right by hand, which tell the limbs apart too.
    Raises StepRefused saying what was seen."""
    tell(0.1, "filling the body")
    body = body or body_for(character, plan)
    if pins:
        body = replace(body, pins=pins)
    assign, lay = FITS[plan]
    tell(0.3, "telling the limbs apart")
    found = pinned(body, assign(body))
    if plan in HIDDEN and (not found or found[0].cost > POOR):
        again = [(more, pinned(more, assign(more))) for more in HIDDEN[plan](body)]
        more, roles = min((x for x in again if x[1]), key=lambda x: x[1][0].cost, default=(body, []))
        if roles and (not found or roles[0].cost < found[0].cost - BETTER):
            body, found = more, roles
    if not found:
        raise seen_instead(character, plan, body)
    tell(0.5, "laying the joints")
    read = _readings(character, body, plan, found, options)
    best, sketch = read[0]
    if sketch.cost > FAIR.get(plan, np.inf) + HOPELESS and not pins:
        raise seen_instead(character, plan, body)
    others = [(s.cost - sketch.cost, s) for _, s in read[1:]]
    sketch.margin = others[0][0] if others else 9.0
    parts = doubt_roles(sketch, body, best, others, plan)
    sketch.reading = Reading(body, best, replace(sketch, found=dict(sketch.found)), others, parts)
    sketch.words[:0] = [w for w in (sketch.frame.words(),) if w]
    loose = loose_parts(character, body)
    if loose:
        sketch.words.append(f"Left out as loose: {few(loose)}.")
    return sketch


def loose_parts(character: Character, body: Body) -> list[str]:
    """Skin parts that aren't of the body's one piece: hats, weapons, shells that hang free."""
    out = []
    for part in character.parts:
        points = character.points[slice(*part.points)]
        if part.role == "skin" and len(points) and len(character.parts) > 1:
            some = points[:: max(1, len(points) // 200)]
            if float((body.solid.tree.query(some)[0] < 2.5 * body.solid.h).mean()) < 0.1:
                out.append(part.name)
    return out


ENDS = {
    "head_end": ("head",), "hand_end": ("hand_a", "hand_b"), "middle_end": ("hand_a", "hand_b"),
    "index_end": ("hand_a", "hand_b"), "fore_toe_end": ("hand_a", "hand_b"), "toe_end": ("foot_c", "foot_d"),
    "tail_end": ("tail", "end"), "wing_1_end": ("hand_a", "hand_b"),
}  # fmt: skip


def pinned(body: Body, found: list[Roles]) -> list[Roles]:
    """Readings in the order of their cost with what the rigger put right: ends far from where they were said to be cost."""
    pins = [(ENDS[n.removesuffix("_L").removesuffix("_R")], p) for n, p in body.pins.items() if n.rstrip("_LR") in ENDS]
    if not pins or not found or not found[0].tips:
        return found
    out = []
    for roles in found:
        extra = 0.0
        for names, p in pins:
            far = [float(np.linalg.norm(body.place(roles[n]) - p)) for n in names if n in roles]
            extra += 8.0 * (min(far) / body.span if far else 0.3)
        out.append(Roles(roles.cost + extra, roles.tips, roles.more))
    return sorted(out, key=lambda r: r.cost)


READINGS, WORSE = 4, 1.6  # how many ways to read a body are laid, and how much dearer than the cheapest they may be
TURNED = 3.0  # the same where none laid so far has that head: which end is which is the worst to be wrong about


def _readings(
    character: Character, body: Body, plan: str, found: list[Roles], options: Any
) -> list[tuple[Roles, Sketch]]:
    """The likeliest ways to read a body, each laid and judged by what came out, cheapest first."""
    lay, judge = FITS[plan][1], JUDGES.get(plan)
    read: list[tuple[Roles, Sketch]] = []
    failed: Exception | None = None
    most = 2 if plan == "winged" else READINGS
    for roles in found[:400]:
        dearer = roles.cost - found[0].cost
        if read and (dearer > TURNED or len(read) == most):
            break
        if any(not _different(roles, r) for r, _ in read):
            continue
        heads = {r.tips.get("head") for r, _ in read}
        turned = roles.tips.get("head") not in heads
        # the last one is kept for another head
        if read and not turned and (dearer > WORSE or (1 < len(read) == most - 1 and len(heads) == 1)):
            continue
        try:
            sketch = lay(character, body, roles, options)
        except (VonkelError, *BROKEN) as error:
            log.info("a reading of %s can't be laid", character.name, exc_info=error)
            failed = error
            continue
        sketch.cost = roles.cost + (judge(sketch) if judge else 0.0)
        read.append((roles, sketch))
    if not read:
        raise seen_instead(character, plan, body) from failed
    return sorted(read, key=lambda r: r[1].cost)


def seen_instead(character: Character, plan: str, body: Body) -> NoSuchBody:
    """A refusal that says what the body's ends are, for the page to draw."""
    low = [i for i in range(len(body.tips)) if body.heights[i] < 0.3]
    words = f"{len(body.tips)} ends, {len(low)} of them near the ground"
    error = NoSuchBody(
        f"This body doesn't read as a {plan}: it wants {WANTED.get(plan, 'limbs')}, and there are {words}.",
        character.name, "Put the landmarks where they belong, or choose another plan.",
    )  # fmt: skip
    error.seen = tuple(("near the ground" if i in low else "an end", body.place(i)) for i in range(len(body.tips)))
    return error


def straightened(character: Character, frame: BodyFrame) -> Character:
    return character if frame.straight else transformed(character, frame.turn, frame.shift)


# Both ways to fit put their main joints that near (median, share of the size).  Wings and fins are where the symmetric plan
# sees far more: there it is enough that both tell the same story.
AGREE = {"biped": 0.03, "quadruped": 0.035, "chain": 0.05, "winged": 0.12, "finned": 0.10, "many-legged": 0.03}

LIMBS = ("hips", "thigh", "shin", "foot", "upper_arm", "forearm", "hand")  # the joints that both ways must put alike
TELLS = {"winged": 0.12, "finned": 0.2}  # how much of what is between both ways is doubt; half where not said


def second_opinion(
    character: Character, plan: str, posed: Sketch, draw: Callable[[Character], Sketch], settled: Sequence[str] = ()
) -> Sketch:  # fmt: skip
    """The sketch for a body that is the same on both sides: the symmetric plan's where both agree, doubted by what is
    between them; the posed one's where they don't.

    A body that nothing but custom tells the front of, and that stands just as characters do (middle plane at x = 0), is
    taken to face +Z as they do.  settled: roles that the options settle, on which both need not agree.
    """
    tell(0.75, "looking for its middle plane")
    by_custom = posed.frame.sure < FACING and stands_straight(character)
    frame = BodyFrame() if by_custom else find_plane(character, posed.frame.facing)
    if not frame.even:
        return posed
    if by_custom and float(posed.frame.facing[2]) < 0:
        posed = sides_exchanged(posed)
    frame = BodyFrame(frame.turn, frame.shift, True, 1.0 if by_custom else posed.frame.sure, frame.miss)
    try:
        even = draw(straightened(character, frame)).carried_to(frame).both_sides()
    except (VonkelError, *BROKEN) as error:
        log.info("the symmetric plan %s can't read %s", plan, character.name, exc_info=error)
        return made_even(posed, frame)
    far = {
        n: float(np.linalg.norm(even.place(n) - posed.place(n))) / character.size
        for n in even.found
        if n in posed.found and even.found[n][2] not in settled
    }
    main = [v for n, v in far.items() if "_end" not in n and not n.startswith(("tail", "collar"))]
    limbs = [v for n, v in far.items() if even.found[n][2] in LIMBS]
    near = AGREE[plan]
    upper = [v for n, v in far.items() if even.found[n][2] in ("chest", "neck", "head")]
    same = bool(main) and float(np.median(main)) < near
    same = same and max(limbs, default=0.0) < 1.6 * near and max(upper, default=0.0) < 4.0 * near
    chosen = even if same else made_even(posed, frame)
    kept = [w for w in posed.words if "differ" not in w and w != posed.frame.words() and not (by_custom and w == GUESS)]
    chosen.words = [w for w in (frame.words(),) if w] + kept
    chosen.frame, chosen.cost, chosen.margin, chosen.reading = frame, posed.cost, posed.margin, posed.reading
    chosen.agreed = same
    for n, (_, _, role, _) in chosen.found.items():
        base = usual(role) if by_custom else posed.spread.get(n, 0.02)
        chosen.spread[n] = min(base, 0.035) if same and far.get(n, 0.0) < 0.03 else base
        if n in far:
            add(chosen, n, TELLS.get(plan, 0.5) * far[n])
    return chosen


def tail_to_its_tip(character: Character, sketch: Sketch) -> None:
    """A tail that ends thinner than a cell goes on to where its mesh ends, its joints as evenly on it as before."""
    names = sorted((n for n in sketch.found if n.startswith("tail_") and n != "tail_end"), key=lambda n: int(n[5:]))
    if sketch.reading is None or "tail_end" not in sketch.found or not names:
        return
    places = np.array([sketch.place(n) for n in (*names, "tail_end")])
    more = past_cells(character, sketch.reading.body.solid, places[-1])
    if not len(more):
        return
    if sketch.frame.even:
        more = np.array([sketch.frame.on_plane(p) for p in more])
    old, way = lengths_along(places), np.vstack([places, more])
    along = lengths_along(way)
    if along[-1] > 4 * old[-1] or (more[-1] - places[-1]) @ (places[-1] - places[-2]) <= 0:
        return  # more than a tail's end hangs there
    for n, s in zip((*names, "tail_end"), old * along[-1] / old[-1], strict=True):
        parent, _, role, deforms = sketch.found[n]
        sketch.found[n] = (parent, np.array([np.interp(s, along, way[:, k]) for k in range(3)]), role, deforms)


def sides_exchanged(sketch: Sketch) -> Sketch:
    """The same joints for a body that faces the other way."""
    out = Sketch(words=sketch.words, frame=sketch.frame, cost=sketch.cost, margin=sketch.margin)
    out.reading = sketch.reading and sketch.reading.exchanged()
    for n, (parent, place, role, deforms) in sketch.found.items():
        name, over = opposite_name(n), opposite_name(parent) if parent else None
        hinge, spread = sketch.hinges.get(n), sketch.spread.get(n)
        out.put(name, over, place, role, deforms, hinge, sketch.marks.get(name, sketch.marks.get(n, "")), spread)
    return out


def made_even(sketch: Sketch, frame: BodyFrame) -> Sketch:
    """Both sides drawn to their mean in the body's own frame."""
    out = sketch.both_sides()
    out.frame = frame
    for n, (parent, place, role, deforms) in list(out.found.items()):
        other = opposite_name(n)
        if n.endswith("_L") and other in sketch.found:
            mean = 0.5 * (place + frame.mirrored(sketch.place(other)))
            out.found[n] = (parent, mean, role, deforms)
            out.found[other] = (out.found[other][0], frame.mirrored(mean), role, deforms)
        elif not n.endswith(("_L", "_R")):
            out.found[n] = (parent, frame.on_plane(place), role, deforms)
    return out
