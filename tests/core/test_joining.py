"""A head that was rigged alone is hung on its body: against the whole figure that both were cut from."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial import cKDTree

from tests.core.test_faces import do, made
from vonkel.core.character import Character
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.formats.reading import npy
from vonkel.core.geometry.health import health
from vonkel.core.geometry.surgery import Knife
from vonkel.core.joints.edit import remove_chain
from vonkel.core.rig import compile_rig
from vonkel.core.rig.fitting import remove_kit
from vonkel.core.skin import Deformer
from vonkel.core.soundness import unsound
from vonkel.core.weights import table_of

Halves = tuple[Character, Character, Character, str, np.ndarray]


def packed(head: Character) -> dict[str, object]:
    """A character as the step takes it."""
    names = sorted(head.arrays)
    files = [npy(head.arrays[n]) for n in names]
    return {
        "document": head.model_dump_json(), "names": names, "sizes": [len(f) for f in files],
        "arrays": np.frombuffer(b"".join(files), np.uint8),
    }  # fmt: skip


def kept(c: Character, faces: np.ndarray) -> Character:
    """The character with these of its faces (f,) alone."""
    knife = Knife(c)
    for face in np.flatnonzero(~faces):
        knife.take_face(int(face))
    knife.drop_loose()
    return knife.finish()


def without_joints(c: Character, top: str) -> Character:
    lost = {top, *(j.name for j in c.joints if top in above(c, j.name))}
    for kit in [k.name for k in c.kits]:
        there = next((k for k in c.kits if k.name == kit), None)
        if there is not None and any(n in lost for names in there.joints.values() for n in names):
            c = remove_kit(c, kit)
    return remove_chain(c, top)


def above(c: Character, name: str) -> set[str]:
    out: set[str] = set()
    at = c.joint(name).parent
    while at is not None:
        out.add(at)
        at = c.joint(at).parent
    return out


@pytest.fixture(scope="module")
def halves() -> Halves:
    """The whole otter with its face; its body without a head; its head alone; the joint that it hung on; which points of the whole
    both are of, the body's first."""
    whole = made("otter")
    whole = do(whole, "limbs.outfit")
    head = whole.joint_with_role("head")
    assert head is not None and head.parent is not None
    starts, corners = whole.arrays["face_starts"], whole.arrays["face_corners"]
    middle = np.add.reduceat(whole.points[corners], starts[:-1]) / np.diff(starts)[:, None]
    over = middle[:, 1] > head.place[1] - 0.01
    body = without_joints(kept(whole, ~over), head.name)
    body = body.with_(
        shapes=(),
        regions=(),
        boards=(),
        poses=(),
        face=None,
        arrays={k: None for k in body.arrays if k.startswith(("shape/", "region/"))},
    )
    for kit in [k.name for k in body.kits if k.kind in ("jaw", "lids", "eyes", "lips")]:
        body = remove_kit(body, kit)
    used = [np.unique(corners[np.repeat(rows, np.diff(starts))]) for rows in (~over, over)]
    return whole, body, kept(whole, over), head.parent, np.concatenate(used)


def test_a_joined_head_moves_as_the_whole_figure_did(halves: Halves) -> None:
    whole, body, head, onto, there = halves
    c = do(body, "face.join_head", **packed(head), onto=onto, below="head")
    assert not unsound(c) and len(c.points) == len(body.points) + len(head.points)
    assert {j.name for j in c.joints} == {j.name for j in whole.joints}  # names are kept
    assert {s.name for s in c.shapes} == {s.name for s in whole.shapes} and c.face == whole.face
    assert {k.name for k in c.kits} >= {k.name for k in whole.kits if k.kind in ("jaw", "lids", "eyes", "lips")}
    one, both = compile_rig(whole), compile_rig(c)
    assert np.array_equal(whole.points[there], c.points)
    mine = {n for n in table_of(head).joints if n == "head" or "head" in above(whole, n)}
    weights = table_of(whole)
    own = sum(weights.of(n) for n in mine)
    half = np.arange(len(there)) < len(body.points)
    inner = np.where(half, own[there] < 1e-6, own[there] > 1 - 1e-6)  # what neither half lost a holder of
    inner[health(c).border_points] = False  # the seam, see below
    assert inner.mean() > 0.8
    poses = [
        {}, {"jaw": {"open": 0.7}, "lids_L": {"blink": 1.0}}, {"eyes aim": {"move x": 0.2}},
        {"shapes": {"AU12 lip corner puller": 1.0}}, {"hand_L": {"move y": 0.2}, "chest turn": {"turn z": 0.3}},
    ]  # fmt: skip
    first, second = Deformer(whole), Deformer(c)
    for inputs in poses:
        a = first.deform(one.evaluate(inputs))[there]
        b = second.deform(both.evaluate(inputs))
        assert np.abs(a - b)[inner].max() < 1e-4 * whole.size, inputs


def test_the_seam_stays_shut_in_any_pose(halves: Halves) -> None:
    _, body, head, onto, _ = halves
    c = do(body, "face.join_head", **packed(head), onto=onto, below="head")
    border = health(c).border_points
    near, far = border[border < len(body.points)], border[border >= len(body.points)]
    other = cKDTree(c.points[far]).query(c.points[near])
    pairs = other[0] < 1e-9
    assert pairs.sum() > 20
    program, deformer = compile_rig(c), Deformer(c)
    for inputs in ({"chest turn": {"turn z": 0.5}}, {"hand_L": {"move y": 0.3}}):
        p = deformer.deform(program.evaluate(inputs))
        assert np.linalg.norm(p[near[pairs]] - p[far[other[1][pairs]]], axis=1).max() < 1e-6 * c.size


def test_names_that_are_taken_get_a_word_before_them_and_sides_stay() -> None:
    body, head = made("otter"), made("bust")
    c = do(body, "face.join_head", **packed(head), onto="chest", move=[0.0, 1.0, 0.0])
    assert not unsound(c)
    names = {j.name for j in c.joints}
    assert {"head jaw", "head eye_L", "head eye_R"} <= names and {j.name for j in body.joints} <= names
    assert {s.name for s in body.shapes} <= {s.name for s in c.shapes} and len(c.shapes) == len(body.shapes) + len(
        head.shapes
    )
    jaw = next(k for k in c.kits if k.name == "head jaw")
    opened = compile_rig(c).evaluate({next(x.name for x in c.controls if x.kit == jaw.name): {"open": 1.0}})
    moved = Deformer(c).deform(opened) - c.points
    assert np.abs(moved[: len(body.points)]).max() < 1e-6 < 0.01 < np.abs(moved[len(body.points) :]).max()
    assert np.allclose(c.points[len(body.points) :], head.points + [0, 1, 0])


def test_what_can_not_be_joined_is_said(halves: Halves) -> None:
    _, body, head, onto, _ = halves
    with pytest.raises(NotFound, match="elsewhere"):
        do(body, "face.join_head", **packed(head), onto="elsewhere")
    with pytest.raises(NotFound, match="nowhere"):
        do(body, "face.join_head", **packed(head), onto=onto, below="nowhere")
    bare = head.with_(skin=None, arrays={k: None for k in head.arrays if k.startswith("skin/")})
    with pytest.raises(StepRefused, match="bound before"):
        do(body, "face.join_head", **packed(bare), onto=onto)
    broken = packed(head)
    with pytest.raises(BadParameters, match="don't fit together"):
        do(body, "face.join_head", **{**broken, "sizes": broken["sizes"][:-1]}, onto=onto)  # type: ignore[index]
    with pytest.raises(BadParameters, match="can't be read"):
        do(body, "face.join_head", **{**broken, "document": "{}"}, onto=onto)
    data = np.array(broken["arrays"])
    data[:6] = 0
    with pytest.raises(BadParameters, match="can't be read"):
        do(body, "face.join_head", **{**broken, "arrays": data}, onto=onto)
