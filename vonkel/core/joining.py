"""Two characters made one: a head that was rigged alone hung on its body, with its joints, rig, skin, shapes and poses."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from scipy.sparse import csr_matrix, vstack
from scipy.spatial import cKDTree

from .character import Character, Ref, Shape, unique_name
from .character.hierarchy import descendants
from .character.references import renamed
from .errors import NotFound, StepRefused, TooLarge
from .geometry.health import health
from .geometry.parts import point_colours, with_parts
from .geometry.transform import transformed
from .joints.names import renamed as joints_renamed
from .rig.fitting import remove_kit
from .tolerances import MAX_JOINTS, MAX_POINTS
from .weights import WeightTable, table_of, with_table

SEAM = 1e-3  # of the body's size: border points that lie so near to one another are one seam, and move as one
PREFIX = "head"  # what stands before a name that the body has already


def joined(body: Character, head: Character, onto: str, below: str = "", move: np.ndarray | None = None) -> Character:
    """The body with the head's mesh, and everything of it from its joint `below` on hung on the body's joint `onto`.

    below: empty for its root; what lay above it goes, and what that held goes to `below`.  move (3,): metres that the head is moved
    by first.  Names stay; where the body has one already, the head's gets “head” before it.  Along a seam where border
    points of both meet, both follow the mean of their joints, so that it doesn't open.
    Raises NotFound for joints that aren't there, StepRefused where one is bound and the other isn't.
    """
    body.joint(onto)
    if not head.points.size or not head.joints:
        raise StepRefused("The head has no mesh or no joints.", head.name, "Lay a plan on it first.")
    if head.skin is None or body.skin is None:
        bare = head if head.skin is None else body
        raise StepRefused("Both must be bound before they are joined.", bare.name, "Bind it at the Skin station first.")
    if len(body.points) + len(head.points) > MAX_POINTS or len(body.joints) + len(head.joints) > MAX_JOINTS:
        raise TooLarge("Together they would be too large.", body.name, "Lighten one of them first.")
    head = transformed(head, np.eye(3), move) if move is not None and np.any(move) else head
    head = _from(head, below)
    head = _apart_by_name(body, head)
    result = _meshes(body, head)
    tops = [j.name for j in head.joints if j.parent is None]
    hung = tuple(j.model_copy(update={"parent": onto}) if j.name in tops else j for j in head.joints)
    result = result.with_(
        joints=(*body.joints, *hung), kits=(*body.kits, *head.kits), controls=(*body.controls, *head.controls),
        rules=(*body.rules, *head.rules), order=(*body.order, *head.order), poses=(*body.poses, *head.poses),
        boards=(*body.boards, *head.boards), clips=(*body.clips, *head.clips), face=body.face or head.face,
        arrays={k: a for k, a in head.arrays.items() if k.startswith(("board/", "clip/"))},
    )  # fmt: skip
    result = _moved_rows(result, head, len(body.points))
    return _skinned(result, body, head)


def _from(head: Character, below: str) -> Character:
    """The head with the joints from `below` on alone, and what a figure as a whole stands on left behind."""
    if not below:
        roots = [j.name for j in head.joints if j.parent is None]
        below = roots[0]
    elif below not in head.joint_index:
        raise NotFound(f"The head has no joint called “{below}”.", head.name, "Choose one of its joints.")
    kept = {below, *descendants(head, below)}
    for kit in head.kits:
        gone = any(n not in kept for names in kit.joints.values() for n in names)
        if (gone or kit.kind == "whole") and any(k.name == kit.name for k in head.kits):
            head = remove_kit(head, kit.name)
    lost = {j.name: below for j in head.joints if j.name not in kept}
    table = table_of(head).given_over({n: h for n, h in lost.items() if n in table_of(head).joints})
    joints = tuple(
        j.model_copy(update={"parent": None}) if j.name == below else j for j in head.joints if j.name in kept
    )
    return with_table(head.with_(joints=joints, skin=head.skin.model_copy(update={"handed": None})), table)  # type: ignore[union-attr]


def _apart_by_name(body: Character, head: Character) -> Character:
    """The head with whatever is called as something of the body called otherwise."""
    joints = _other_names((j.name for j in body.joints), [j.name for j in head.joints])
    head = joints_renamed(head, joints) if joints else head  # which names controls after their joints, too
    names: dict[Ref, Ref] = {}
    for kind, theirs, own in (
        ("kit", body.kits, head.kits), ("control", body.controls, head.controls),
        ("shape", body.shapes, head.shapes), ("region", body.regions, head.regions), ("board", body.boards, head.boards),
        ("clip", body.clips, head.clips), ("rule", body.rules, head.rules),
    ):  # fmt: skip
        new = _other_names((x.name for x in theirs), [x.name for x in own])
        names |= {Ref.of(kind, a): Ref.of(kind, b) for a, b in new.items()}
    order = tuple(names.get(Ref.of("kit", n), names.get(Ref.of("rule", n), Ref.of("kit", n))).name for n in head.order)
    poses = _other_names((p.name for p in body.poses), [p.name for p in head.poses])
    head = renamed(head, names) if names else head
    return head.with_(
        order=order, poses=tuple(p.model_copy(update={"name": poses.get(p.name, p.name)}) for p in head.poses)
    )


def _other_names(theirs: Iterable[str], own: list[str]) -> dict[str, str]:
    there = set(theirs)
    taken, out = there | set(own), {}
    for name in own:
        if name in there:
            out[name] = unique_name(f"{PREFIX} {name}", taken)
            taken.add(out[name])
    return out


def _meshes(body: Character, head: Character) -> Character:
    a = head.arrays
    none = np.zeros(1, np.int64), np.zeros(0, np.int64)
    lines = (a["line_starts"], a["line_points"]) if "line_starts" in a else none
    names = tuple(p.name for p in head.parts)
    for key in ("colours", "uvs"):  # what the body hasn't got the head's would be lost without
        if key in a and key not in body.arrays:
            body = _with_blank(body, key)
    result = with_parts(
        body, names, head.points, head.part_numbers("points"), (a["face_starts"], a["face_corners"]), lines
    )
    first, n, corners = len(body.parts), len(body.points), len(body.arrays["face_corners"])
    parts = tuple(
        old.model_copy(update={k: getattr(new, k) for k in ("name", "points", "faces", "lines")})
        for new, old in zip(result.parts[first:], head.parts, strict=True)
    )
    arrays: dict[str, np.ndarray | None] = {k: None for k in body.arrays if k.startswith("handed/")}
    if "colours" in a:
        arrays["colours"] = np.concatenate([result.arrays["colours"][:n], a["colours"]])
    if "uvs" in a:
        arrays["uvs"] = np.concatenate([result.arrays["uvs"][:corners], a["uvs"]])
    groups = body.groups
    if "face_groups" in a and "face_groups" in body.arrays:
        arrays["face_groups"] = np.concatenate([body.arrays["face_groups"], a["face_groups"] + len(groups)]).astype(
            np.uint16
        )
        groups = (*groups, *head.groups)
    return result.with_(parts=(*body.parts, *parts), groups=groups, arrays=arrays)


def _with_blank(body: Character, key: str) -> Character:
    if key == "colours":
        return body.with_(arrays={"colours": point_colours(body)})
    return body.with_(arrays={"uvs": np.zeros((len(body.arrays["face_corners"]), 2), np.float32)})


def _moved_rows(result: Character, head: Character, first: int) -> Character:
    """Shapes and regions of the head, which name points, named anew."""
    arrays: dict[str, np.ndarray | None] = {}
    for kind, rows, other in (("shape", head.shapes, "moves"), ("region", head.regions, "amounts")):
        for row in rows:
            key = f"{kind}/{row.name}"
            arrays[f"{key}/points"] = (head.arrays[f"{key}/points"] + np.uint32(first)).astype(np.uint32)
            arrays[f"{key}/{other}"] = head.arrays[f"{key}/{other}"]
    shapes: tuple[Shape, ...] = (*result.shapes, *head.shapes)
    return result.with_(shapes=shapes, regions=(*result.regions, *head.regions), arrays=arrays)


def _skinned(result: Character, body: Character, head: Character) -> Character:
    """The joined skin: each half as it was, and one seam where their borders meet."""
    own, theirs = table_of(body), table_of(head)
    joints = (*own.joints, *theirs.joints)
    held = vstack([own.with_joints(joints).held, theirs.with_joints(joints).held]).tocsr()
    held = _sewn(held, body, head)
    assert body.skin is not None and head.skin is not None
    skin = body.skin.model_copy(
        update={
            "joints": joints, "locked": (*body.skin.locked, *head.skin.locked), "handed": None,
            "influences": max(body.skin.influences, head.skin.influences),
        }
    )  # fmt: skip
    width = max(body.arrays["skin/joints"].shape[1], head.arrays["skin/joints"].shape[1])
    rows = np.zeros((len(result.points), width))
    result = result.with_(
        skin=skin, arrays={"skin/joints": rows.astype(np.uint16), "skin/weights": rows.astype(np.float32)}
    )
    return with_table(result, WeightTable(joints, held))


def _sewn(held: csr_matrix, body: Character, head: Character) -> csr_matrix:
    mine, other = health(body).border_points, health(head).border_points
    if not len(mine) or not len(other):
        return held
    far, near = cKDTree(body.points[mine]).query(head.points[other])
    meets = far < SEAM * body.size
    a, b = mine[near[meets]], len(body.points) + other[meets]
    mean = 0.5 * (held[a] + held[b])
    out = held.tolil()
    out[b] = mean
    out[a] = mean
    return out.tocsr()
