"""From the marks of a face to joints, weights, shapes and controls: made anew after a mark has moved, with what was done by hand kept.

Each product remembers of which places it was made (`Face.made`).  What a rigger did to it since is the difference to what those
places give, and goes onto what the new places give.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from ..character import (
    Board,
    BoardPicture,
    Character,
    Face,
    Joint,
    Kit,
    Region,
    SavedPose,
    Shape,
    Side,
    opposite_name,
    unique_name,
)
from ..errors import StepRefused
from ..face.estimate import Estimate
from ..face.eyes import Eye, of_side
from ..face.head import head_joint
from ..face.marks import face_of
from ..geometry.rotations import unit, vector
from ..joints.edit import add_joint, move_joint
from ..progress import tell
from ..rig.fitting import add_kit, remove_kit
from ..rig.kits import KINDS
from ..rig.kits.jaw import SEAL
from ..rig.kits.lids import LOWER, LOWER_WIDE, UPPER, UPPER_WIDE, WIDE
from ..rig.kits.lips import PRESS, PURSE, SPREAD, UNDER
from ..shapes.moves import moves_of, with_moves, with_shape
from ..shapes.regions import amounts_of, with_region
from ..weights import WeightTable, table_of, with_table
from .areas import areas, ear_area
from .built import built_opening
from .jaw import Jaw, find_jaw
from .lids import Lids
from .units import SEALED, UNDER_TEETH, UNITS, VISEMES, Sculptor, lip_under_teeth, sealed, unit_moves

HEADING_LIDS, HEADING_UNITS, HEADING_MOUTH = "lids", "action units", "mouth"
BETWEEN = (0.25, 0.5, 0.75)  # of a lid's travel: with straight lines between these it keeps off the ball
ALIKE = 0.01  # of the head's size: how far eyes may be from each other's images and still be made alike
JAW_DEGREES = 25.0
PAD = "mouth pad"


def _face(character: Character) -> Face:
    if character.face is None or not character.face.marks:
        raise StepRefused("The face has no marks yet.", character.name, "Find what is where first.")
    return character.face


def _made(character: Character, product: str) -> Character:
    face = _face(character)
    return character.with_(face=face.model_copy(update={"made": {**face.made, product: face.places}}))


def _before(character: Character, product: str) -> Estimate | None:
    """The face as it was when a product was last made."""
    face = _face(character)
    return face_of(character, face.made[product]) if product in face.made else None


# -- joints --------------------------------------------------------------------------------------------------------------
def with_face_joints(character: Character) -> Character:
    """Joints for eyes, jaw and tongue where the marks say, made or moved there."""
    face = face_of(character)
    _face(character)
    head = head_joint(character)
    result = character
    if head is None:
        raise StepRefused("No joint is the head's.", character.name, "Lay a plan first.")
    holder = head.name
    back = face.head.back
    for eye in face.eyes:
        result = _placed(result, "eye", "eye", eye.side, back(eye.centre), holder)
    jaw = find_jaw(face)
    if jaw is not None:
        result = _placed(result, "jaw", "jaw", "C", back(jaw.hinge), holder)
        made = result.joint_with_role("jaw")
        assert made is not None
        result = _placed(result, "jaw_end", "jaw_end", "C", back(jaw.chin), made.name, deforms=False)
        result = _with_tongue(result, face)
    return _made(result, "joints")


def _placed(
    character: Character, name: str, role: str, side: Side, place: np.ndarray, parent: str, deforms: bool = True
) -> Character:
    there = character.joint_with_role(role, side)
    if there is not None:
        if np.linalg.norm(np.array(there.place) - place) < 1e-9 * character.size:
            return character
        return move_joint(character, there.name, place, both_sides=False, inside=False)
    wanted = unique_name(name if side == "C" else f"{name}_{side}", set(character.joint_index))
    at = Joint(name=wanted, parent=parent, side=side, place=vector(place), role=role, deforms=deforms)
    return add_joint(character, at)


def tongue_line(face: Estimate, count: int = 0) -> np.ndarray | None:
    """Places along the middle of the tongue, from its root to its tip (k, 3), in the head's frame; by its length where no count is given."""
    head = face.head
    p = head.p[head.inside & (head.role == "tongue")]
    if len(p) < 12:
        return None
    root, tip = float(p[:, 2].min()), float(p[:, 2].max())
    count = count or int(np.clip(round((tip - root) / (0.13 * head.size)), 2, 6)) + 1
    z = root + (tip - root) * np.linspace(0.06, 0.96, count)
    width = 0.7 * (tip - root) / count
    near = [p[np.abs(p[:, 2] - at) < width] for at in z]
    return np.array(
        [[0.0, float(q[:, 1].mean()) if len(q) else float(p[:, 1].mean()), at] for q, at in zip(near, z, strict=True)]
    )


def _with_tongue(character: Character, face: Estimate) -> Character:
    there = [j for j in character.joints if j.role.startswith("tongue")]
    line = tongue_line(face, len(there))
    jaw = character.joint_with_role("jaw")
    if line is None or jaw is None:
        return character
    parent = jaw.name
    for i, place in enumerate(line):
        end = i == len(line) - 1
        role = "tongue_end" if end else f"tongue_{i + 1}"
        character = _placed(character, role, role, "C", face.head.back(place), parent, deforms=not end)
        parent = next(j.name for j in character.joints if j.role == role)
    return character


# -- weights -------------------------------------------------------------------------------------------------------------
def with_face_weights(character: Character) -> Character:
    """Jaw, eyes, teeth and tongue held as the marks say; what was painted on the jaw since it was last made stays on top of it."""
    if character.skin is None:
        raise StepRefused("There is no skin yet.", character.name, "Bind it at the Skin station first.")
    face = face_of(character)
    jaw, joint = find_jaw(face), character.joint_with_role("jaw")
    table = table_of(character)
    if jaw is not None and joint is not None:
        share = jaw.share[face.head.number]
        old = _before(character, "weights")
        old_jaw = find_jaw(old) if old is not None else None
        if old_jaw is not None:
            share = np.clip(share + table.of(joint.name) - old_jaw.share[face.head.number], 0, 1)
        tongues = {n: 0.0 for n in table.joints if character.joint(n).role.startswith("tongue")}
        table = _with_share(character, table.scaled(tongues), joint.name, share)
        table = _tongue_held(character, table, face)
    for side in ("L", "R"):
        table = _ear_held(character, table, face, side)
    for eye in face.eyes:
        holder = character.joint_with_role("eye", eye.side)
        rows = np.flatnonzero(np.isin(face.head.number, eye.points))
        if holder is not None and len(rows):
            table = table.given_rows(rows, holder.name)
    return _made(with_table(character, table.normalised()), "weights")


def _with_share(character: Character, table: WeightTable, joint: str, share: np.ndarray) -> WeightTable:
    """A joint holds `share` (n,), the others what is left in their proportions; what they didn't hold goes to the joint's parent."""
    above = character.joint(joint).parent or joint
    others = table.scaled({joint: 0.0})
    sums = others.sums()
    bare = np.where((sums <= 1e-9) & (share < 1), 1.0 - share, 0.0)
    by = np.where(sums > 1e-9, (1.0 - share) / np.where(sums > 1e-9, sums, 1.0), 0.0)
    kept = WeightTable(others.joints, others.held.multiply(by[:, None]).tocsr())
    return kept.added(above, bare).replaced(joint, share)


def _ear_held(character: Character, table: WeightTable, face: Estimate, side: Side) -> WeightTable:
    """An ear whole with its one joint, unless it has several, or its skin was painted since this was last made."""
    ear, area = character.joint_with_role("ear", side), ear_area(face, side)
    if ear is None or area is None or not ear.deforms or any(j.deforms for j in character.children.get(ear.name, ())):
        return table
    old = _before(character, "weights")
    was = ear_area(old, side) if old is not None else None
    share = area[face.head.number]
    if was is not None:
        share = np.clip(share + table.of(ear.name) - was[face.head.number], 0, 1)
    return _with_share(character, table, ear.name, share)


def _tongue_held(character: Character, table: WeightTable, face: Estimate) -> WeightTable:
    """Along the tongue each joint holds what lies by it, softly; the jaw holds its root."""
    line = [j for j in character.joints if j.role.startswith("tongue_") and j.deforms]
    rows = np.flatnonzero((face.head.inside & (face.head.role == "tongue"))[face.head.number])
    jaw = character.joint_with_role("jaw")
    if not line or not len(rows) or jaw is None:
        return table
    line.sort(key=lambda j: j.role)
    z = face.head.own(character.points[rows])[:, 2]
    at = np.array([face.head.own(np.array(j.place))[2] for j in line])
    names = [jaw.name, *(j.name for j in line)]
    step = float(np.diff(at).mean()) if len(at) > 1 else float(np.ptp(z)) or 1.0
    knots = np.r_[at[0] - 0.5 * step, at + 0.5 * step]  # each bone holds its own middle wholly
    for k, name in enumerate(names):
        hat = np.interp(z, knots, np.eye(len(names))[k])
        whole = table.of(name)
        whole[rows] = hat
        table = table.replaced(name, whole)
    for name in table.joints:
        if name not in names:
            column = table.of(name)
            if column[rows].any():
                column[rows] = 0.0
                table = table.replaced(name, column)
    return table


# -- shapes --------------------------------------------------------------------------------------------------------------
def _sculptor(face: Estimate) -> Sculptor:
    return Sculptor(face, find_jaw(face), tuple(Lids(face.head, e) for e in face.eyes if e.opens))


Generated = Iterator[tuple[Shape, np.ndarray]]


def _lid_shapes(face: Estimate) -> Generated:
    """Shapes of both lids of each eye that opens, with their in-betweens; moves (n, 3) in the head's frame.

    On a head that is the same on both sides, eyes too, the right ones are the left ones' images.
    """
    other = _other_side(face)
    for eye in face.eyes:
        if not eye.opens or (eye.side == "R" and other is not None):
            continue
        for shape, moves in _lids_of(face, eye):
            yield shape, moves
            if other is not None:
                names = {"name": opposite_name(shape.name), "between": opposite_name(shape.between)}
                yield shape.model_copy(update=names), moves[other] * [-1.0, 1.0, 1.0]


def _other_side(face: Estimate) -> np.ndarray | None:
    """(n,) the mirrored point of each, where the head and its eyes are the same on both sides to the eye; else None."""
    head, eyes = face.head, [e for e in face.eyes if e.opens]
    if len(eyes) != 2 or not head.even:
        return None
    ends = [np.array([e.centre, *e.corners]) for e in eyes]
    if np.abs(ends[0] * [-1, 1, 1] - ends[1]).max() > ALIKE * head.size:
        return None
    far, other = cKDTree(head.p).query(head.p * [-1.0, 1.0, 1.0])
    return np.asarray(other) if far.max() < 1e-5 * head.size else None


def _lids_of(face: Estimate, eye: Eye) -> Generated:
    lids = Lids(face.head, eye)
    for word in (UPPER, LOWER):
        key = "up" if word == UPPER else "low"
        name = f"{word} lid_{eye.side}"
        whole = lids.moves(**{key: 1.0})
        yield Shape(name=name, heading=HEADING_LIDS), whole
        for at in BETWEEN:
            title = f"{word} lid at {at:.0%}_{eye.side}".replace("%", "")
            yield Shape(name=title, heading=HEADING_LIDS, between=name, at=at), lids.moves(**{key: at}) - at * whole
        yield Shape(name=f"{word} lid wide_{eye.side}", heading=HEADING_LIDS), lids.moves(**{key: -WIDE})
    if len(eye.points):
        yield Shape(name=f"pupil wide_{eye.side}", heading=HEADING_LIDS, low=-0.6), _wide_pupil(face, eye)


PUPIL = (
    np.radians(24),
    np.radians(50),
)  # the pupil's edge, and how far what lies about it gives way (common practice for drawn eyes)


def _wide_pupil(face: Estimate, eye: Eye) -> np.ndarray:
    """(n, 3) what makes the pupil half as wide again: the front of the ball slides over it, away from its line of sight."""
    p, out = face.head.p, np.zeros_like(face.head.p)
    q = p[eye.points] - eye.centre
    far = np.linalg.norm(q, axis=1)
    along = np.clip(q @ eye.axis / np.maximum(far, 1e-12), -1, 1)
    angle = np.arccos(along)
    wider = angle + 0.5 * angle * np.clip((PUPIL[1] - angle) / (PUPIL[1] - 0.5 * PUPIL[0]), 0, 1)
    side = unit(q - (q @ eye.axis)[:, None] * eye.axis)
    there = far[:, None] * (np.cos(wider)[:, None] * eye.axis + np.sin(wider)[:, None] * side)
    out[eye.points] = np.where((angle < PUPIL[1])[:, None], there - q, 0.0)
    return out


def _expression_shapes(face: Estimate) -> Generated:
    """Action units, a lip under the teeth, and lips sealed over an open jaw."""
    s = _sculptor(face)
    for each in UNITS:
        moves = unit_moves(s, each)
        if moves is not None:
            yield Shape(name=each.title, heading=HEADING_UNITS), moves
    if s.speaks:
        yield Shape(name=UNDER_TEETH, heading=HEADING_MOUTH), lip_under_teeth(s)
        yield Shape(name=SEALED, heading=HEADING_MOUTH), sealed(s, JAW_DEGREES)


def _with_generated(character: Character, product: str, now: Generated, before: Generated | None) -> Character:
    """The shapes as generated now, with what was sculpted on them since they were last made."""
    turn_of = face_of(character).head
    was = {s.name: m for s, m in before} if before is not None else {}
    for shape, own in now:
        moves = (own @ turn_of.turn)[turn_of.number]
        if any(s.name == shape.name for s in character.shapes):
            if shape.name in was:
                moves = moves + moves_of(character, shape.name) - (was[shape.name] @ turn_of.turn)[turn_of.number]
            else:
                continue  # a shape of the rigger's own that is called so
            character = with_moves(character, shape.name, moves)
        else:
            character = with_shape(character, shape, moves)
    return _made(character, product)


def with_lid_shapes(character: Character) -> Character:
    """Shapes for the lids of each eye that has an opening."""
    _face(character)
    old = _before(character, "lids")
    return _with_generated(
        character, "lids", _lid_shapes(face_of(character)), _lid_shapes(old) if old is not None else None
    )


def with_expressions(character: Character) -> Character:
    """Shapes for the action units that the face has marks for, and of the lips."""
    _face(character)
    old = _before(character, "expressions")
    tell(0.1, "sculpting expressions")
    return _with_generated(
        character,
        "expressions",
        _expression_shapes(face_of(character)),
        _expression_shapes(old) if old is not None else None,
    )


# -- regions -------------------------------------------------------------------------------------------------------------
def with_face_regions(character: Character) -> Character:
    """Regions of ears, eyes, brows and mouth; one that was changed by hand since it was made stays as it is."""
    _face(character)
    face, old = face_of(character), _before(character, "regions")
    number = face.head.number
    was = areas(old, _sculptor(old)) if old is not None else {}
    there = {r.name for r in character.regions}
    for name, amounts in areas(face, _sculptor(face)).items():
        if name in there:
            if name not in was or np.abs(amounts_of(character, name) - was[name][number]).max() > 1e-6:
                continue
        character = with_region(character, Region(name=name), amounts[number])
    return _made(character, "regions")


# -- controls ------------------------------------------------------------------------------------------------------------
def with_face_controls(character: Character, pad: bool = True) -> Character:
    """Kits for eyes, lids, jaw, lips and tongue, visemes as poses, and a pad for the mouth; what is there already stays."""
    face = face_of(character)
    _face(character)
    known = {s.name for s in character.shapes}
    result = _eye_kits(character, face, known)
    jaw = result.joint_with_role("jaw")
    if jaw is not None and find_jaw(face) is not None:
        result = _jaw_kit(result, jaw, known)
        result = _lips_kit(result, jaw, known)
        result = _tongue_kit(result)
        result = _viseme_poses(result)
        if pad:
            result = _with_pad(result)
    return _made(result, "controls")


def _driving(character: Character, joint: str) -> Kit | None:
    return next((k for k in character.kits if joint in KINDS[k.kind].moves(k)), None)


def _eye_kits(character: Character, face: Estimate, known: set[str]) -> Character:
    eyes = [j for j in character.joints if j.role == "eye"]
    loose = tuple(j.name for j in eyes if _driving(character, j.name) is None)
    if loose:
        character = add_kit(character, Kit(name="eyes", kind="eyes", joints={"eyes": loose}))
    for j in eyes:
        eye = of_side(face.eyes, j.side)
        if eye is None or any(k.kind == "lids" and j.name in k.joints["eye"] for k in character.kits):
            continue
        if eye.shelled:
            character = _shell_kit(character, j)
        if not eye.opens:
            continue
        words = {
            UPPER: f"upper lid_{j.side}", LOWER: f"lower lid_{j.side}", UPPER_WIDE: f"upper lid wide_{j.side}",
            LOWER_WIDE: f"lower lid wide_{j.side}",
        }  # fmt: skip
        opening = round(Lids(face.head, eye).opening, 2)
        kit = Kit(
            name=f"lids_{j.side}", kind="lids", side=j.side, joints={"eye": (j.name,)}, options={"opening": opening},
            shapes={w: s for w, s in words.items() if s in known},
        )  # fmt: skip
        character = add_kit(character, kit)
    return character


def _shell_kit(character: Character, eye: Joint) -> Character:
    """Sliders for the shells of a built eye: as far as they stand apart at rest."""
    upper, lower = (character.joint_with_role(f"lid_{w}", eye.side) for w in ("upper", "lower"))
    apart = built_opening(character, upper) if upper is not None and lower is not None else 0.0
    if upper is None or lower is None or apart <= 0.0:
        return character
    joints = {"eye": (eye.name,), "upper": (upper.name,), "lower": (lower.name,)}
    kit = Kit(name=f"lids_{eye.side}", kind="lids", side=eye.side, joints=joints, options={"opening": round(apart, 4)})
    return add_kit(character, kit)


def _jaw_kit(character: Character, jaw: Joint, known: set[str]) -> Character:
    there = _driving(character, jaw.name)
    if there is not None and there.kind == "jaw":
        return character
    if there is not None and there.kind in ("turns", "single"):  # a jaw that only turned gets sliders instead
        character = remove_kit(character, there.name)
    elif there is not None:
        return character
    shapes = {SEAL: SEALED} if SEALED in known else {}
    return add_kit(
        character,
        Kit(name="jaw", kind="jaw", joints={"jaw": (jaw.name,)}, options={"degrees": JAW_DEGREES}, shapes=shapes),
    )


def _lips_kit(character: Character, jaw: Joint, known: set[str]) -> Character:
    titles = {u.number: u.title for u in UNITS}
    words = {PRESS: titles[24], UNDER: UNDER_TEETH, SPREAD: titles[20], PURSE: titles[18]}
    shapes = {w: s for w, s in words.items() if s in known}
    if not shapes or any(k.kind == "lips" for k in character.kits):
        return character
    return add_kit(character, Kit(name="lips", kind="lips", joints={"jaw": (jaw.name,)}, shapes=shapes))


def _tongue_kit(character: Character) -> Character:
    line = tuple(
        j.name for j in sorted(character.joints, key=lambda j: j.role) if j.role.startswith("tongue_") and j.deforms
    )
    if not line or any(_driving(character, n) for n in line):
        return character
    end = character.joint_with_role("tongue_end")
    kind = "chain" if len(line) >= 4 else "turns"
    chain = (*line, end.name) if end is not None and kind == "chain" else line
    return add_kit(character, Kit(name="tongue", kind=kind, joints={"chain": chain}))


def _jaw_control(character: Character) -> str:
    kit = next((k for k in character.kits if k.kind == "jaw"), None)
    return next((c.name for c in character.controls if kit is not None and c.kit == kit.name), "")


def _viseme_poses(character: Character) -> Character:
    """A pose for each viseme whose shapes are there, under their published numbers; poses that are there already stay."""
    titles = {u.number: u.title for u in UNITS}
    known, taken, jaw = {s.name for s in character.shapes}, {p.name for p in character.poses}, _jaw_control(character)
    poses = list(character.poses)
    for v in VISEMES:
        if v.title in taken:
            continue
        shapes = {titles[n]: strength for n, strength in v.units.items() if titles[n] in known}
        if v.under and UNDER_TEETH in known:
            shapes[UNDER_TEETH] = v.under
        values: dict[str, dict[str, float]] = {"shapes": shapes} if shapes else {}
        if v.open and jaw:
            values[jaw] = {"open": v.open}
        if values:
            poses.append(SavedPose(name=v.title, values=values))
    return character.with_(poses=tuple(poses))


def _with_pad(character: Character) -> Character:
    """A square for the mouth: narrow to wide across, shut to open upwards."""
    if any(b.name == PAD for b in character.boards):
        return character
    titles, known, jaw = {u.number: u.title for u in UNITS}, {s.name for s in character.shapes}, _jaw_control(character)
    narrow, wide, grin = (titles[n] for n in (18, 20, 12))
    if not {narrow, wide, grin} <= known:
        return character
    opened = {jaw: {"open": 0.9}} if jaw else {}
    pictures = (
        BoardPicture(key="rest", place=(0.0, 0.0)),
        BoardPicture(key="p1", place=(-1.0, 1.0), shapes={narrow: 0.8}, pose=opened),
        BoardPicture(key="p2", place=(1.0, 1.0), shapes={wide: 0.7}, pose=opened),
        BoardPicture(key="p3", place=(-1.0, -1.0), shapes={narrow: 1.0}),
        BoardPicture(key="p4", place=(1.0, -1.0), shapes={wide: 0.6, grin: 0.6}),
    )
    return character.with_(
        boards=(*character.boards, Board(name=PAD, pictures=pictures, blend="corners", spot=(0.55, 0.42), size=0.36))
    )


def jaw_of(character: Character) -> Jaw | None:
    """The jaw as the marks have it; None where they don't."""
    return find_jaw(face_of(character))
