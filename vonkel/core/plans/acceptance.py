"""Whether joints that lie in a body can be what they are said to be, whoever put them there.

Nothing here knows which plan made them: no joint may be empty, stacked on another, outside the flesh it moves, or on the
wrong side, and partners are about equally long.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..character import Character, Joint, opposite_name
from ..character.words import EYE_JOINTS
from ..derived import derived
from ..geometry.topology import skin_points
from ..geometry.voxels import STEP_LENGTHS, distances_through, traced
from ..joints.inside import body_solid, may_stick_out
from ..joints.orient import bone_child
from ..joints.survey import nearest_bone
from .accessories import body_alone
from .shapes import THICK, along_bones

Kind = Literal["empty", "stacked", "outside", "bare", "uneven", "crossed"]
STACKED = 0.004  # of the size: joints nearer than that to their parent lie on it
BARE = 0.5  # the share of a bone that may run outside the body
UNEVEN = 1.6  # times its partner's length
FREE = (*EYE_JOINTS, "jaw", "membrane", "collar", "back_fin")


@dataclass(frozen=True)
class Fault:
    """What is wrong with some joints."""

    kind: Kind
    joints: tuple[str, ...]


@derived("points", "face_starts", "face_corners", "parts", "joints", most=4)
def acceptance(character: Character) -> tuple[Fault, ...]:
    """All faults of the joints' places, worst first; none for a character without joints or mesh."""
    if not character.joints or not len(character.points):
        return ()
    return tuple(_faults(character))


def _faults(c: Character) -> Iterator[Fault]:
    places = {j.name: np.array(j.place) for j in c.joints}
    stacked = [
        j.name for j in c.joints
        if j.parent and np.linalg.norm(places[j.name] - places[j.parent]) < STACKED * c.size and not j.role.startswith(FREE)
    ]  # fmt: skip
    if stacked:
        yield Fault("stacked", tuple(stacked))
    solid = body_solid(c)
    if not len(solid.cells):
        return
    held = [j for j in c.joints if j.deforms and not may_stick_out(c, j) and not j.role.startswith(FREE)]
    if held:
        far = solid.tree.query(np.array([places[j.name] for j in held]))[0]
        out = [j.name for j, d in zip(held, far, strict=True) if d > 1.5 * solid.h]
        if out:
            yield Fault("outside", tuple(out))
    bare = [j.name for j in held if _bare(c, j, places) > BARE]
    if bare:
        yield Fault("bare", tuple(bare))
    empty = _empty(c, places)
    if empty:
        yield Fault("empty", tuple(empty))
    yield from _sides(c, places)


@dataclass(frozen=True, eq=False)
class Boneless:
    """Flesh far from every bone: the joint whose bone is nearest, and the place (3,) that is farthest, metres."""

    joint: str
    place: np.ndarray


# Of the size, through the flesh, beyond what a bone's own reaches: a limb was left out, or a horn, a trunk, a wing's finger.
FAR_FLESH = 0.10
COARSE = 90  # cells along the body: enough to tell a limb
APART = 0.2  # of the size: places nearer to one another are one


def boneless(character: Character) -> tuple[Boneless, ...]:
    """The parts of a body that no bone lies in, the farthest first; none of a head alone, whose flesh is one joint's."""
    return _boneless(body_alone(character))


@derived("points", "face_starts", "face_corners", "parts", "joints", "plan", most=4)
def _boneless(c: Character) -> tuple[Boneless, ...]:
    if not c.joints or c.plan == "head" or not len(c.points) or c.size <= 0:
        return ()
    solid = body_solid(c, COARSE)
    places = {j.name: np.array(j.place) for j in c.joints}
    bones = [(j.parent, j.name) for j in c.joints if j.parent is not None and not j.role.startswith(EYE_JOINTS)]
    if not bones or not len(solid.cells):
        return ()
    along, which = along_bones([places[a] for a, _ in bones], [places[b] for _, b in bones], 2 * solid.h, COARSE)
    sources = solid.nearest(along)
    reach = THICK * solid.depth[sources] + 2 * solid.h
    most = float(reach.max())
    far, came = distances_through(
        solid.links, STEP_LENGTHS * solid.h, np.ones(len(solid.cells)), sources.astype(np.int64), most - reach, np.inf
    )
    gap = np.where(np.isfinite(far), far - most, 0.0)  # a loose piece isn't a limb
    found: list[Boneless] = []
    holder = dict(zip(sources.tolist(), which.tolist(), strict=True))
    for i in np.argsort(-gap):
        if gap[i] < FAR_FLESH * c.size:
            break
        place = solid.centres[i]
        if all(np.linalg.norm(place - f.place) > APART * c.size for f in found):
            found.append(Boneless(bones[holder[int(traced(came, int(i))[-1])]][0], place))
    return tuple(found)


def _bare(c: Character, j: Joint, places: dict[str, np.ndarray]) -> float:
    """The share of a joint's bone that runs outside the body."""
    child = bone_child(c, j)
    if child is None or not child.deforms or child.role.startswith(FREE):
        return 0.0
    solid = body_solid(c)
    t = np.linspace(0.05, 0.95, 12)[:, None]
    along = places[j.name] + t * (places[child.name] - places[j.name])
    return float((solid.tree.query(along)[0] > 1.5 * solid.h).mean())


def _empty(c: Character, places: dict[str, np.ndarray]) -> list[str]:
    """Deforming joints whose bone is nearest to no point of the skin."""
    bones = [j for j in c.joints if j.deforms and not j.role.startswith((*EYE_JOINTS, "jaw"))]
    points = np.ascontiguousarray(c.points[skin_points(c)], float)
    if not bones or not len(points):
        return []
    starts = np.array([places[j.name] for j in bones])
    ends = np.array([places[k.name] if (k := bone_child(c, j)) else places[j.name] for j in bones])
    owner = np.zeros(len(points), np.int64)
    nearest_bone(points, starts, ends, np.ones(len(bones)), owner)
    count = np.bincount(owner, minlength=len(bones))
    return [j.name for j, n in zip(bones, count, strict=True) if n == 0 and not j.role.startswith(FREE)]


def _sides(c: Character, places: dict[str, np.ndarray]) -> Iterator[Fault]:
    pairs = [(j.name, opposite_name(j.name)) for j in c.joints if j.side == "L" and opposite_name(j.name) in places]
    if not pairs:
        return
    tops = [(a, b) for a, b in pairs if c.joint(a).role in ("thigh", "upper_arm", "fin_1", "eye")] or pairs
    left = np.mean([places[a] - places[b] for a, b in tops], axis=0)
    if "hips" in places and "chest" in places:
        ahead = places["chest"] - places["hips"]
        if np.linalg.norm(ahead * [1, 0, 1]) > 2 * abs(ahead[1]):  # a lying trunk tells by itself which side is left
            left = np.cross([0.0, 1.0, 0.0], ahead)
    roots = [(a, b) for a, b in pairs if c.joint(a).role in ("thigh", "upper_arm", "collar", "eye", "ear", "fin_1")]
    crossed = [n for a, b in roots if float((places[a] - places[b]) @ left) < 0 for n in (a, b)]
    if crossed:
        yield Fault("crossed", tuple(crossed))
    uneven = []
    for a, b in pairs:
        p, q = c.joint(a).parent, c.joint(b).parent
        if p is None or q is None or c.joint(a).role.startswith(FREE):
            continue
        one, two = (float(np.linalg.norm(places[n] - places[m])) for n, m in ((a, p), (b, q)))
        if max(one, two) > UNEVEN * min(one, two) + 0.02 * c.size:
            uneven += [a, b]
    if uneven:
        yield Fault("uneven", tuple(uneven))
