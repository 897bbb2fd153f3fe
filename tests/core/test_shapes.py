"""Shapes: sculpted, blended, split, boarded; what survives, what is refused, what is found."""

from __future__ import annotations

from itertools import product
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vonkel.core.character import Board, BoardPicture, Character, Region, Shape, Track
from vonkel.core.character.boards import picture_strengths, shape_strengths
from vonkel.core.errors import BadParameters, NotFound, StepRefused
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry.strokes import Sample
from vonkel.core.geometry.walking import ground_of
from vonkel.core.motion.jumps import passings
from vonkel.core.rig import compile_rig
from vonkel.core.shapes import add_shape, moved_whole, moves_of, with_moves, with_shape
from vonkel.core.shapes.checks import shape_faults
from vonkel.core.shapes.edits import Placing, left_share, mirror_image
from vonkel.core.shapes.posed import Posed
from vonkel.core.shapes.regions import amounts_of
from vonkel.core.shapes.rims import unevenness
from vonkel.core.shapes.sculpt import BRUSHES, SculptBrush, Sculpting
from vonkel.core.skin import Deformer
from vonkel.core.trials import run_trials, trial_pose
from vonkel.readings import findings
from vonkel.steps.registry import apply_step

from ..conftest import tube

AHEAD = (0.0, 0.0, -1.0)
CHEEK = (0.095, 0.085, 0.150)  # from the head's joint, metres


def do(character: Character, step: str, **params: Any) -> Character:
    return apply_step(character, step, params)[0]


def at(character: Character, place: Any) -> Sample:
    """The sample of the triangle of the skin whose middle lies nearest."""
    ground = ground_of(character)
    middle = character.points[ground.triangles].mean(1)
    facing = character.points[ground.triangles]
    out = np.cross(facing[:, 1] - facing[:, 0], facing[:, 2] - facing[:, 0])[:, 2] > 0  # not the mouth's own inside
    middle[(ground.triangles[:, 0] >= character.parts[0].points[1]) | ~out] = np.inf
    return (float(np.linalg.norm(middle - np.asarray(place), axis=1).argmin()), 1 / 3, 1 / 3, 1.0, *AHEAD)


def place_of(character: Character, role: str, off: tuple[float, float, float] = (0, 0, 0)) -> np.ndarray:
    joint = next(j for j in character.joints if j.role == role and j.side in "LC")
    return np.array(joint.place) + off


@pytest.fixture(scope="module")
def faced(otter: Character) -> Character:
    """Lutra with two shapes of ours: a smile and a blink."""
    c = do(otter, "shapes.new", name="smile")
    cheek = place_of(c, "head", CHEEK)
    c = do(
        c,
        "shapes.sculpt",
        shape="smile",
        brush="pull",
        radius=0.06,
        samples=[at(c, cheek), (0, 0, 0, 1, 0.0, 0.02, 0.01)],
    )
    c = do(c, "shapes.new", name="blink")
    brow = place_of(c, "head", (0.06, 0.12, 0.12))
    return do(c, "shapes.sculpt", shape="blink", brush="swell", radius=0.05, strength=1.0, samples=[at(c, brow)])


# -- sculpting -----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("kind", sorted(BRUSHES))
def test_every_brush_moves_both_sides_alike_or_one_alone(faced: Character, kind: str) -> None:
    cheek = place_of(faced, "head", CHEEK)
    samples = [at(faced, cheek), (0, 0, 0, 1, 0.004, 0.01, 0.0)] if kind == "pull" else [at(faced, cheek)] * 3
    both = do(faced, "shapes.sculpt", shape="smile", brush=kind, radius=0.05, samples=samples)
    change = moves_of(both, "smile") - moves_of(faced, "smile")
    assert np.abs(change).max() > 1e-5
    assert np.abs(mirror_image(both, change) - change).max() < 1e-6
    one = do(faced, "shapes.sculpt", shape="smile", brush=kind, radius=0.03, both_sides=False, samples=samples)
    change = moves_of(one, "smile") - moves_of(faced, "smile")
    assert np.abs(change[faced.points[:, 0] > 0.02]).max() > 1e-5
    assert np.abs(change[faced.points[:, 0] < -0.001]).max() == 0


def test_a_pull_carries_the_middle_with_the_hand_and_fades_to_the_rim(faced: Character) -> None:
    hand = Sampled(faced, SculptBrush(kind="pull", radius=0.05, strength=1.0, both=False))
    change = hand.after([at(faced, place_of(faced, "head", CHEEK)), (0, 0, 0, 1, 0.0, 0.01, 0.0)])
    assert np.abs(change[:, [0, 2]]).max() < 1e-7
    assert 0.008 < change[:, 1].max() <= 0.01 + 1e-7
    far = np.linalg.norm(faced.points - faced.points[change[:, 1].argmax()], axis=1)
    assert not np.abs(change[far > 0.06]).any()


class Sampled:
    """A stroke over the smile, and what came of it."""

    def __init__(self, character: Character, brush: SculptBrush) -> None:
        self.sculpting = Sculpting(character, "smile", brush)
        self.before = moves_of(character, "smile")

    def after(self, samples: list[Sample]) -> np.ndarray:
        self.sculpting.put(samples)
        return np.asarray(moves_of(self.sculpting.result(), "smile") - self.before)


def test_swelling_lays_on_once_and_back_to_rest_takes_all_away(faced: Character) -> None:
    cheek = at(faced, place_of(faced, "head", CHEEK))
    once = Sampled(faced, SculptBrush(kind="swell", radius=0.05, strength=0.5)).after([cheek])
    often = Sampled(faced, SculptBrush(kind="swell", radius=0.05, strength=0.5)).after([cheek] * 9)
    assert np.array_equal(once, often)
    brush = SculptBrush(kind="back", radius=0.3, strength=1.0, fading=0.0, front=False)
    gone = Sampled(faced, brush).after([cheek])
    assert np.abs(gone + moves_of(faced, "smile")).max() < 1e-7


def test_brushes_keep_to_the_region_by_its_soft_edge(faced: Character) -> None:
    cheek = place_of(faced, "head", CHEEK)
    inside = np.flatnonzero(np.linalg.norm(faced.points - cheek, axis=1) < 0.03)
    c = do(faced, "regions.set", name="cheek", points=inside.tolist(), soft=0.01)
    amounts = amounts_of(c, "cheek")
    assert (amounts[inside] == 1).all() and ((amounts > 0) & (amounts < 1)).any()
    hand = Sampled(c, SculptBrush(kind="pull", radius=0.09, strength=1.0, front=False, both=False, region="cheek"))
    change = hand.after([at(c, cheek), (0, 0, 0, 1, 0.0, 0.01, 0.0)])
    assert not np.abs(change[amounts == 0]).any() and np.abs(change[inside]).max() > 0.005


@pytest.mark.parametrize("method", ["dual", "linear", "mixed"])
def test_what_is_sculpted_in_a_pose_comes_back_in_that_pose(faced: Character, method: str) -> None:
    assert faced.skin
    c = faced.with_(skin=faced.skin.model_copy(update={"method": method}))
    if method == "mixed":
        c = do(c, "skin.mix", share=0.4)
    c = do(c, "shapes.corrective", name="elbow", joint="forearm_L", reading="bend", trial="elbows 120°")
    pose = trial_pose(c, "elbows 120°")
    assert (
        pose is not None and pose.shapes["elbow_L"] == pytest.approx(1) and pose.shapes["elbow_R"] == pytest.approx(1)
    )
    before = Deformer(c).deform(pose).astype(float)
    hand = Sculpting(c, "elbow_L", SculptBrush(kind="pull", radius=0.06, strength=1.0, front=False, both=False), pose)
    way = np.array([0.01, 0.02, -0.015])
    hand.put([at(c, place_of(c, "forearm", (0, 0, -0.05))), (0, 0, 0, 1, *way)])
    wanted = hand.mask[0][hand.ground.of][:, None] * way
    made = hand.result()
    again = trial_pose(made, "elbows 120°")
    assert again is not None
    got = Deformer(made).deform(again).astype(float) - before
    assert np.abs(wanted).max() > 0.009
    assert np.abs(got - wanted).max() < 1e-6
    assert np.abs(Posed(made, "elbow_L", again).points - Deformer(made).deform(again)).max() < 1e-6


def test_correctives_of_both_sides_are_images_and_fire_with_their_own_joint(otter: Character) -> None:
    c = do(otter, "shapes.corrective", name="armpit", joint="upper_arm_L", reading="toward", trial="one arm up")
    pose = trial_pose(c, "one arm up")
    assert (
        pose is not None
        and pose.shapes["armpit_L"] == pytest.approx(1, abs=1e-9)
        and abs(pose.shapes["armpit_R"]) < 1e-9
    )
    shoulder = place_of(c, "upper_arm")
    c = do(
        c,
        "shapes.sculpt",
        shape="armpit_L",
        brush="even",
        radius=0.08,
        trial="one arm up",
        samples=[at(c, shoulder)] * 6,
    )
    left, right = moves_of(c, "armpit_L"), moves_of(c, "armpit_R")
    assert np.abs(left).max() > 1e-4 and np.abs(mirror_image(c, left) - right).max() < 1e-7
    both = trial_pose(c, "arms up")
    assert both is not None and both.shapes["armpit_L"] == pytest.approx(both.shapes["armpit_R"], abs=1e-6)
    with pytest.raises(StepRefused, match="hardly twisted"):
        do(otter, "shapes.corrective", name="x", joint="forearm_L", reading="twist", trial="elbows 120°")
    with pytest.raises(StepRefused, match="is off in this pose"):
        do(c, "shapes.sculpt", shape="armpit_L", brush="even", trial="stride", radius=0.1, samples=[at(c, shoulder)])


def test_a_corrective_that_is_sculpted_makes_its_card_calmer(otter: Character) -> None:
    card = run_trials(otter, pictures=False, only="one arm up")[0]
    c = do(otter, "shapes.corrective", name="armpit", joint="upper_arm_L", reading="toward", trial="one arm up")
    longest = card.found["longest_edge"]
    triangle = int(np.flatnonzero((ground_of(c).triangles == longest.point).any(1))[0])  # whichever way it faces
    worst = (float(triangle), 1 / 3, 1 / 3, 1.0, *AHEAD)
    c = do(
        c, "shapes.sculpt", shape="armpit_L", brush="even", radius=0.07, trial="one arm up", samples=[worst] * 10,
        front=False,
    )  # fmt: skip
    after = run_trials(c, pictures=False, only="one arm up")[0]
    assert after.found["longest_edge"].share < 0.9 * longest.share  # what was stretched most is calmer
    assert after.badness <= card.badness  # and nothing is worse for it


def test_bad_strokes_are_refused(faced: Character) -> None:
    with pytest.raises(NotFound, match="no shape called"):
        do(faced, "shapes.sculpt", shape="none", brush="even", samples=[at(faced, (0, 1, 0))])
    with pytest.raises(BadParameters, match="no such triangle"):
        do(faced, "shapes.sculpt", shape="smile", brush="even", samples=[(1e7, 0, 0, 1, 0, 0, 0)])
    with pytest.raises(BadParameters, match="no trial"):
        do(faced, "shapes.sculpt", shape="smile", brush="even", trial="nowhere", samples=[at(faced, (0, 1, 0))])


# -- shapes of shapes ----------------------------------------------------------------------------------------------
def strengths(c: Character, **shapes: float) -> dict[str, float]:
    return compile_rig(c).evaluate({"shapes": {k.replace("_", " "): v for k, v in shapes.items()}}).shapes


def test_combinations_and_in_betweens_are_exact_at_their_corners(faced: Character) -> None:
    c = do(faced, "shapes.together", shapes=["smile", "blink"], name="both")
    c = do(c, "shapes.between", shape="smile", at=0.5)
    c = do(c, "shapes.between", shape="smile", at=0.75)
    for a, b in product((0.0, 1.0), (0.0, 1.0)):
        assert strengths(c, smile=a, blink=b)["both"] == a * b
    assert strengths(c, smile=-1, blink=1)["both"] == 0
    knots = {0.0: (0, 0), 0.5: (1, 0), 0.75: (0, 1), 1.0: (0, 0), 0.25: (0.5, 0), 0.625: (0.5, 0.5)}
    for v, (half, later) in knots.items():
        on = strengths(c, smile=v)
        assert (on["smile at 0.5"], on["smile at 0.75"]) == pytest.approx((half, later))
    # What is sculpted at a corner is what stands there.
    wanted = moves_of(c, "smile") * 0.5 + np.array([0.0, 0.003, 0.0]) * (np.abs(moves_of(c, "smile")) > 0)
    c = with_moves(c, "smile at 0.5", wanted - 0.5 * moves_of(c, "smile"))
    there = Deformer(c).shaped(strengths(c, smile=0.5))
    assert np.abs(there - c.points - wanted).max() < 1e-6
    gone = do(c, "shapes.remove", shape="smile")
    assert {s.name for s in gone.shapes} == {"mouth open", "blink"}
    with pytest.raises(StepRefused, match="depends on itself"):
        broken = c.with_(
            shapes=tuple(s.model_copy(update={"of": ("both",)}) if s.name == "smile" else s for s in c.shapes)
        )
        do(broken.with_(rules=()), "shapes.order", shapes=[s.name for s in broken.shapes[::-1]])


def test_both_halves_are_the_whole_and_fade_over_the_middle(faced: Character) -> None:
    c = do(faced, "shapes.split", shape="smile", width=0.03)
    left, right, whole = (moves_of(c, n) for n in ("smile_L", "smile_R", "smile"))
    assert np.abs(left + right - whole).max() < 1e-7
    assert not np.abs(left[c.points[:, 0] < -0.016]).any() and not np.abs(right[c.points[:, 0] > 0.016]).any()
    assert np.abs(mirror_image(c, left) - right).max() < 1e-6
    share = left_share(c, 0.03)
    assert share.min() == 0 and share.max() == 1 and share[np.abs(c.points[:, 0]) < 1e-9] == pytest.approx(0.5)
    with pytest.raises(StepRefused, match="one side"):
        do(c, "shapes.split", shape="smile_L")


def test_shapes_are_copied_turned_mirrored_put_together_and_ordered(faced: Character) -> None:
    c = do(faced, "shapes.split", shape="smile", width=0.0)
    twice = do(do(c, "shapes.mirror", shape="smile_L"), "shapes.mirror", shape="smile_R")
    assert np.array_equal(moves_of(twice, "smile_L"), moves_of(c, "smile_L"))
    round_ = do(do(c, "shapes.scale", shape="smile", by=-1), "shapes.scale", shape="smile", by=-1)
    assert np.array_equal(moves_of(round_, "smile"), moves_of(c, "smile"))
    sum_ = do(c, "shapes.combine", name="sum", shares={"smile": 0.5, "blink": -2})
    assert np.abs(moves_of(sum_, "sum") - 0.5 * moves_of(c, "smile") + 2 * moves_of(c, "blink")).max() < 1e-6
    names = [s.name for s in c.shapes]
    assert [s.name for s in do(c, "shapes.order", shapes=names[::-1]).shapes] == names[::-1]
    with pytest.raises(BadParameters, match="each once"):
        do(c, "shapes.order", shapes=names[1:])
    lopsided = do(c, "shapes.alike", shape="smile_L", side="left")
    assert np.abs(mirror_image(c, moves_of(lopsided, "smile_L")) - moves_of(lopsided, "smile_L")).max() < 1e-6


def test_squash_and_stretch_keeps_the_volume_of_the_closed_form() -> None:
    """A tube, scaled along its length and across it by the inverse root: the volume of an affine map is its determinant."""
    from vonkel.core.geometry.topology import signed_volume, topology_of

    c = do(character_from_mesh(tube(rings=9), "tube"), "shapes.new", name="tall")
    c = do(c, "shapes.place", shape="tall", pivot=(0, 0.5, 0), size=(1, 1.6, 1), keep="y")
    triangles = topology_of(c).triangles
    before, after = (signed_volume(p, triangles) for p in (c.points, c.points + moves_of(c, "tall")))
    assert after == pytest.approx(before, rel=1e-6)
    assert np.ptp(c.points[:, 1] + moves_of(c, "tall")[:, 1]) == pytest.approx(1.6, rel=1e-6)
    wide = do(c, "shapes.place", shape="tall", size=(2, 1, 1))
    assert signed_volume(wide.points + moves_of(wide, "tall"), triangles) == pytest.approx(2 * before, rel=1e-5)
    assert Placing((0, 0, 0), size=(2.0, 3.0, 0.5)).volume == 3


def test_a_part_turned_far_goes_along_its_arc_by_in_betweens(otter: Character) -> None:
    c = do(otter, "shapes.new", name="roll")
    eye = c.part("eye left").points
    pivot = c.points[slice(*eye)].mean(0)
    c = do(c, "shapes.place", shape="roll", part="eye left", pivot=tuple(pivot), turn=(90, 0, 0), size=(0.5, 0.5, 0.5))
    assert not np.abs(np.delete(moves_of(c, "roll"), np.arange(*eye), 0)).any()
    own = (c.points - pivot)[slice(*eye)]
    for share in (0.2, 0.4, 0.5, 0.9, 1.0):
        there = Deformer(c).shaped(strengths(c, roll=share))[slice(*eye)] - pivot
        size = np.linalg.norm(there, axis=1) / np.linalg.norm(own, axis=1)
        assert np.abs(size / (1 - 0.5 * share) - 1).max() < 0.02  # no iris sinks on its way round
    assert len([s for s in c.shapes if s.between == "roll"]) == 4


# -- boards --------------------------------------------------------------------------------------------------------
@given(st.floats(-2, 2), st.floats(-2, 2), st.booleans())
@settings(deadline=None, max_examples=60)
def test_board_strengths_are_one_on_a_picture_nothing_a_step_away_and_continuous(
    x: float, y: float, shared: bool
) -> None:
    """Common practice: a picture board's strength is 1 on a picture and 0 a step away."""
    pictures = tuple(
        BoardPicture(key=f"p{i}", shapes={f"s{i}": 1.0}, place=p) for i, p in enumerate([(0, 1), (1, 0), (-1, -1)])
    )
    board = Board(name="b", pictures=pictures, shared=shared, low=(-2, -2), high=(2, 2))
    on = picture_strengths(board)
    for i, q in enumerate(pictures):
        own = on(*q.place)
        assert own[i] == 1 and sum(own) == 1
        assert on(q.place[0] + 1, q.place[1])[i] == 0
    here, near = on(x, y), on(x + 1e-6, y - 1e-6)
    assert max(abs(a - b) for a, b in zip(here, near, strict=True)) < 1e-4
    assert not shared or sum(here) <= 1 + 1e-12
    drawn_larger = board.model_copy(update={"size": 1.3, "spot": (0.5, 0.5)})
    assert shape_strengths(drawn_larger)(x, y) == shape_strengths(board)(x, y)


@given(st.floats(-1.5, 1.5), st.floats(-1.5, 1.5))
@settings(deadline=None, max_examples=80)
def test_a_square_of_four_is_exact_in_its_corners_straight_along_its_rim_and_nothing_in_its_middle(
    x: float, y: float
) -> None:
    corners = {(-1, 1): "a", (1, 1): "b", (-1, -1): "c", (1, -1): "d"}
    pictures = tuple(BoardPicture(key=n, shapes={n: 1.0}, place=p) for p, n in corners.items())
    pictures += (BoardPicture(key="rest", place=(0, 0)),)
    board = Board(name="m", pictures=pictures, blend="corners", strength=0.5)
    on, led = picture_strengths(board), shape_strengths(board)
    for i, place in enumerate(corners):
        assert on(*place) == [float(k == i) for k in range(5)]
        assert led(*place) == {n: 0.5 * (p == place) for p, n in corners.items()}
    assert on(0, 0) == [0, 0, 0, 0, 1]
    assert on(1, y if abs(y) <= 1 else 0)[1] == pytest.approx(
        0.5 * (1 + (y if abs(y) <= 1 else 0))
    )  # bilinear on the rim
    here = on(x, y)
    assert sum(here) == pytest.approx(1) and min(here) >= 0
    assert max(abs(a - b) for a, b in zip(here, on(x + 1e-7, y - 1e-7), strict=True)) < 1e-5
    assert here == on(min(max(x, -1), 1), min(max(y, -1), 1))  # the handle can't leave it


def test_a_square_of_four_is_made_of_four_shapes(faced: Character) -> None:
    c = do(do(faced, "shapes.copy", shape="smile", name="wide"), "shapes.scale", shape="wide", by=-1)
    names = ["smile", "blink", "mouth open", "wide"]
    c = do(c, "boards.make", name="mouth", shapes=names, corners=True)
    program = compile_rig(c)
    for name, place in zip(names, [(-1, 1), (1, 1), (-1, -1), (1, -1)], strict=True):
        bead = {"across": 2.0 * place[0], "up": 2.0 * place[1]}  # far outside: held at the corner
        assert {k: v for k, v in program.evaluate({"board:mouth": bead}).shapes.items() if v} == {name: 1.0}
    with pytest.raises(StepRefused, match="four corners, not 2"):
        do(c, "boards.make", name="x", shapes=names[:2], corners=True)


def test_a_board_is_made_in_one_go_leads_its_shapes_and_follows_their_names(faced: Character) -> None:
    c = do(faced, "boards.make", name="face", shapes=["smile", "blink"])
    board = c.boards[0]
    assert board.pictures[0].shapes == {} and board.pictures[0].place == (0, 0)
    by = {next(iter(q.shapes)): q.place for q in board.pictures[1:]}
    program = compile_rig(c)

    def on(place: tuple[float, float]) -> dict[str, float]:
        bead = {"across": place[0], "up": place[1]}
        return {k: v for k, v in program.evaluate({"board:face": bead}).shapes.items() if v}

    assert on(by["smile"]) == {"smile": 1.0} and on(by["blink"]) == {"blink": 1.0} and on((0, 0)) == {}
    c = do(c, "shapes.set", shape="smile", name="grin")
    c = do(c, "boards.set", board="face", name="mouth", snap="half")
    c = do(c, "poses.save", name="p", values={"board:mouth": {"across": 0.6, "up": 0.0}, "shapes": {"grin": 0.2}})
    c = do(c, "boards.set", board="mouth", name="lips")
    assert c.poses[-1].values == {"board:lips": {"across": 0.6, "up": 0.0}, "shapes": {"grin": 0.2}}
    snapped = compile_rig(c).evaluate({"board:lips": {"across": 0.2 + by["smile"][0], "up": by["smile"][1]}})
    assert snapped.shapes["grin"] == 1
    less = do(c, "shapes.remove", shape="grin")
    assert [q.shapes for q in less.boards[0].pictures] == [{}, {"blink": 1.0}]
    with pytest.raises(BadParameters, match="come to nothing"):
        do(c, "boards.set", board="lips", curve={"keys": [{"at": 0, "value": 1}, {"at": 1, "value": 0.5}]})


def test_own_pictures_are_kept_with_the_board_and_go_with_it(faced: Character) -> None:
    from vonkel.core.trials.picture import png

    file = np.frombuffer(png(np.zeros((8, 8, 3), np.uint8)), np.uint8)
    c = do(
        do(faced, "boards.make", name="face", shapes=["smile"]), "boards.picture", board="face", key="p1", picture=file
    )
    assert "board/face/p1" in c.arrays
    c = do(c, "boards.set", board="face", name="two words")
    assert "board/two words/p1" in c.arrays and "board/face/p1" not in c.arrays
    assert "board/two words/p1" not in do(c, "boards.remove", board="two words").arrays
    with pytest.raises(Exception, match="no PNG or JPEG"):
        do(c, "boards.picture", board="two words", key="p1", picture=np.zeros(9, np.uint8))


def test_a_bead_that_passes_over_a_third_picture_is_found_and_jumps(faced: Character) -> None:
    c = do(faced, "boards.make", name="face", shapes=["smile", "blink", "mouth open"])
    c = do(c, "boards.move", board="face", places={"p1": (0, -1), "p2": (0, 1), "p3": (0.1, 0.1), "rest": (-1, 0)})
    tracks = [Track(thing="board:face", channel=k).model_dump() for k in ("across", "up")]  # type: ignore[arg-type]
    up = np.interp(np.arange(24), [6, 16], [-1, 1])
    c = do(c, "motion.add", name="talk", rate=24, tracks=tracks, values=np.stack([0 * up, up], 1))
    found = passings(c)
    assert [(p.clip, p.key, p.start, p.end) for p in found] == [("talk", "p3", 6, 16)]
    finding = next(f for f in findings(c) if "flashes" in f.title)
    assert finding.mend
    mended = do(c, finding.mend.step, **finding.mend.params)
    assert not passings(mended)
    values = mended.arrays["clip/talk/values"][:, 1]
    assert (values[:16] == -1).all() and (values[16:] == 1).all()
    assert not do(c, "boards.remove", board="face").clips


# -- in and out, and what survives ---------------------------------------------------------------------------------
def test_another_order_is_told_and_matched_by_place(otter: Character) -> None:
    moved = otter.points + moves_of(otter, "mouth open")
    order = np.random.default_rng(3).permutation(len(moved))
    with pytest.raises(BadParameters, match="another order: its point"):
        add_shape(otter, "x", moved[order])
    c = do(otter, "shapes.add_by_place", name="again", points=moved[order], rest=otter.points[order])
    assert np.abs(moves_of(c, "again") - moves_of(otter, "mouth open")).max() < 1e-6
    with pytest.raises(BadParameters, match="isn't this character"):
        do(otter, "shapes.add_by_place", name="x", points=moved[order], rest=otter.points[order] + 5.0)
    beside = moved_whole(otter, moved + [1.4, 0, 0])
    assert np.abs(beside - moved).max() < 1e-9
    with pytest.raises(BadParameters, match="has 5 points"):
        moved_whole(otter, moved[:5])


def test_shapes_and_regions_survive_resizing_joining_and_loops(faced: Character) -> None:
    c = do(faced, "regions.set", name="mouth", points=list(range(200)), soft=0.02)
    larger = do(c, "model.resize", measure="height", metres=2 * c.height)
    by = larger.height / c.height
    assert np.abs(moves_of(larger, "smile") / by - moves_of(c, "smile")).max() < 1e-7
    assert np.array_equal(amounts_of(larger, "mouth"), amounts_of(c, "mouth"))
    joined = do(c, "model.join_parts", parts=["eye left", "eye right"])
    back = [np.linalg.norm(joined.points - p, axis=1).argmin() for p in c.points[::97]]
    assert np.array_equal(moves_of(joined, "smile")[back], moves_of(c, "smile")[::97])
    apart = do(joined, "model.split_part", part="eye left")
    again = [np.linalg.norm(apart.points - p, axis=1).argmin() for p in c.points[::97]]
    assert np.array_equal(moves_of(apart, "smile")[again], moves_of(c, "smile")[::97])
    assert np.array_equal(amounts_of(joined, "mouth")[back], amounts_of(c, "mouth")[::97])


def test_a_support_loop_leaves_shapes_where_they_are_and_means_in_between(otter: Character) -> None:
    from vonkel.core.geometry.topology import topology_of

    far = np.linalg.norm(moves_of(otter, "mouth open"), axis=1)
    edge = next(e for e in topology_of(otter).edges.tolist() if far[e].min() > 0.004)
    looped = do(otter, "model.slide_loop", edge=edge)
    assert len(looped.points) > len(otter.points)
    old, new = moves_of(otter, "mouth open"), moves_of(looped, "mouth open")
    back = {p.tobytes(): i for i, p in enumerate(looped.points)}
    kept = [(i, back[p.tobytes()]) for i, p in enumerate(otter.points) if p.tobytes() in back]
    assert len(kept) == len(otter.points)
    assert np.abs(new[[j for _, j in kept]] - old[[i for i, _ in kept]]).max() < 1e-9
    added = np.setdiff1d(np.arange(len(new)), [j for _, j in kept])
    assert np.abs(new[added]).max() > 0.001


def test_drawn_lines_carry_shapes_as_any_part_does(otter: Character) -> None:
    from vonkel.core.geometry.parts import with_parts

    line = np.array([[0.02, 1.1, 0.25], [0.04, 1.12, 0.25], [0.06, 1.11, 0.24]])
    none = np.zeros(1, np.int64), np.zeros(0, np.int64)
    c = with_parts(otter, ("brow",), line, np.zeros(3, np.int64), none, (np.array([0, 3]), np.arange(3)))
    c = do(do(c, "shapes.new", name="raise"), "shapes.place", shape="raise", part="brow", move=(0, 0.03, 0))
    own = slice(*c.part("brow").points)
    assert np.abs(moves_of(c, "raise")[own] - [0, 0.03, 0]).max() < 1e-7
    c = do(c, "shapes.sculpt", shape="raise", brush="pull", radius=0.2, through=True, front=False,
           samples=[at(c, line[1]), (0, 0, 0, 1, 0.0, 0.0, 0.02)])  # fmt: skip
    assert (moves_of(c, "raise")[own, 2] > 0.001).all()


def test_a_shape_under_a_new_rest_still_shows_what_it_showed(faced: Character) -> None:
    values = {"head turn": {"turn y": 0.4}}
    before = Deformer(faced)
    program = compile_rig(faced)
    wanted = before.deform(program.evaluate({**values, "shapes": {"smile": 0.7}})).copy()
    c = do(faced, "joints.new_rest", values=values)
    got = Deformer(c).deform(compile_rig(c).evaluate({"shapes": {"smile": 0.7}}))
    assert np.abs(got - wanted).max() < 1e-5


def test_shapes_keep_what_is_said_of_them_through_a_glb(faced: Character) -> None:
    from vonkel.core.formats import read_character
    from vonkel.core.handover import written

    c = do(faced, "shapes.together", shapes=["smile", "blink"], name="both")
    c = do(do(c, "shapes.between", shape="smile", at=0.5), "shapes.set", shape="smile", high=2, low=-1, heading="mouth")
    back = read_character("x.glb", written(c, ".glb"), "x")
    for s in c.shapes:
        assert s in back.shapes
        assert np.abs(moves_of(back, s.name)[: len(c.points)] - moves_of(c, s.name)).max() < 1e-6


# -- findings and trials -------------------------------------------------------------------------------------------
def test_faults_of_shapes_are_found_and_mended(faced: Character) -> None:
    c = do(faced, "shapes.new", name="nothing")
    c = do(c, "shapes.copy", shape="smile", name="again")
    wild = moves_of(c, "blink")
    point = int(np.linalg.norm(wild, axis=1).argmax())
    wild[point] += [0.0, 0.08, 0.0]
    c = with_moves(c, "blink", wild)
    c = do(c, "shapes.set", shape="blink", even=True)
    c = do(c, "shapes.between", shape="mouth open", at=1.6)
    c = do(c, "regions.set", name="tail", points=np.flatnonzero(c.points[:, 2] < -0.2).tolist())
    c = do(c, "shapes.set", shape="mouth open", region="tail")
    kinds = {(f.kind, f.shape) for f in shape_faults(c)}
    assert kinds >= {
        ("empty", "nothing"), ("double", "again"), ("wild", "blink"), ("uneven", "blink"),
        ("unreachable", "mouth open at 1.6"), ("trespass", "mouth open"),
    }  # fmt: skip
    assert next(f for f in shape_faults(c) if f.kind == "wild").points == (point,)
    for _ in range(8):
        mends = [f.mend for f in findings(c) if f.station == "shapes" and f.mend]
        if not mends:
            break
        c = do(c, mends[0].step, **mends[0].params)
    assert {f.kind for f in shape_faults(c)} <= {"unreachable"}


def test_an_honest_shape_has_no_findings(faced: Character) -> None:
    assert not [f for f in findings(faced) if f.station == "shapes"]


def test_a_coloured_rim_that_was_torn_is_an_even_band_again(otter: Character) -> None:
    ring = np.flatnonzero(
        np.abs(np.linalg.norm(otter.points - place_of(otter, "head", (0.06, 0.09, 0.12)), axis=1) - 0.03) < 0.006
    )
    c = do(otter, "regions.set", name="lid", points=ring.tolist(), rim=True)
    moves = np.zeros((len(c.points), 3))
    moves[ring] = np.random.default_rng(1).normal(0, 0.004, (len(ring), 3)) + [0, 0.01, 0]
    c = with_shape(c, Shape(name="shaken"), moves)
    assert unevenness(c, "shaken", "lid") > 0.25
    assert any("uneven band" in f.title for f in findings(c))
    even = do(c, "shapes.rim", shape="shaken", region="lid")
    assert unevenness(even, "shaken", "lid") < 0.4 * unevenness(c, "shaken", "lid")
    assert np.abs(moves_of(even, "shaken")[ring].mean(0) - moves[ring].mean(0)).max() < 2e-3  # it goes where it was put
    assert not np.abs(np.delete(moves_of(even, "shaken"), ring, 0)).any()


def test_shapes_are_tried_alone_in_pairs_and_in_mixes(faced: Character) -> None:
    cards = {c.name: c for c in run_trials(faced, pictures=False)}
    assert {"smile, whole", "blink, whole", "mouth open, whole", "mix 1"} <= set(cards)
    torn = moves_of(faced, "blink")
    torn[:, 2] -= 0.05 * (np.abs(torn).max(1) > 0.002)  # the brow pushed deep into the head
    worse = run_trials(with_moves(faced, "blink", torn), pictures=False, only="blink, whole")[0]
    assert worse.badness > cards["blink, whole"].badness and worse.grade == "D"


def test_regions_are_painted_grown_and_named(faced: Character) -> None:
    cheek = at(faced, place_of(faced, "head", CHEEK))
    c = do(faced, "regions.paint", region="cheeks", radius=0.04, samples=[cheek])
    amounts = amounts_of(c, "cheeks")
    assert amounts.max() == 1 and np.abs(amounts - amounts[mirror(c)]).max() < 1e-6
    less = do(c, "regions.paint", region="cheeks", way="take", radius=0.02, samples=[cheek])
    assert amounts_of(less, "cheeks").sum() < amounts.sum()
    grown = do(c, "regions.edit", region="cheeks", grow=0.01, soft=0.01, name="face")
    assert (amounts_of(grown, "face") >= 0.5).sum() > (amounts >= 0.5).sum()
    assert Region(name="face") in grown.regions
    with pytest.raises(StepRefused, match="No point is in it"):
        do(c, "regions.edit", region="cheeks", grow=-1.0)


def mirror(c: Character) -> np.ndarray:
    from vonkel.core.geometry.health import mirror_partners

    return mirror_partners(c)[1]
