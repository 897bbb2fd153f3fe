"""Motions of other skeletons: files read as independent libraries read them, joints matched, feet kept, and our own brought back.

The public files are those of Debian's assimp-testmodels (Carnegie Mellon's motion capture database, and one with toes).
"""

from functools import cache
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_faces import do
from tests.core.test_walking import rigged
from tests.judging.posing import at_rest
from tests.web.test_bvh import read as by_three
from vonkel.core.errors import BadFile, BadParameters, StepRefused
from vonkel.core.formats import read_motion
from vonkel.core.formats.bvh_read import read
from vonkel.core.handover import written
from vonkel.core.motion.capture import Capture, Skeleton
from vonkel.core.retargeting import matched, played
from vonkel.core.retargeting.feet import kept, off_stands, stands_of
from vonkel.core.retargeting.matching import build_of, side_of
from vonkel.core.rig import compile_rig
from vonkel.core.rig.motion import clip_motion
from vonkel.standins import suit_lines
from vonkel.standins.performers import person, suit_row
from vonkel.steps.motion import bringing

PUBLIC = Path("/usr/share/assimp/models/BVH")
FILES = ("01_01", "01_03", "Boxing_Toes")
CMU = {
    "hips": "Hips", "chest": "Spine1", "head": "Head", "thigh_L": "LeftUpLeg", "shin_L": "LeftLeg", "foot_L": "LeftFoot",
    "ball_L": "LeftToeBase", "collar_L": "LeftShoulder", "upper_arm_L": "LeftArm", "forearm_L": "LeftForeArm", "hand_L": "LeftHand",
    "thigh_R": "RightUpLeg", "forearm_R": "RightForeArm",
}  # fmt: skip
TOES = {
    "hips": "Hips", "chest": "Chest", "head": "Head", "thigh_L": "LeftHip", "shin_L": "LeftKnee", "foot_L": "LeftAnkle",
    "ball_L": "LeftToes", "collar_L": "LeftCollar", "upper_arm_L": "LeftShoulder", "forearm_L": "LeftElbow", "hand_L": "LeftWrist",
}  # fmt: skip


def text(name):
    return (PUBLIC / f"{name}.bvh").read_bytes()


@cache
def public(name, first=0, last=400):
    c = read(name, text(name))
    return Capture(c.skeleton, c.rows[first:last], c.rate)


def cut(name, frames):
    """The first frames of a public file."""
    lines = text(name).decode().splitlines()
    at = next(i for i, line in enumerate(lines) if line.startswith("Frames"))
    return "\n".join([*lines[:at], f"Frames: {frames}", *lines[at + 1 : at + 2 + frames]]).encode() + b"\n"


def matches(character, skeleton):
    return {m.joint: m.source for m in matched(character, skeleton)}


@pytest.mark.parametrize("name", FILES)
def test_places_in_the_world_are_those_of_an_independent_library(name, tmp_path):
    """three.js's BVHLoader, on files not made by us: to 1e-4 of their unit (it counts in single precision) at every joint."""
    short = cut(name, 300)
    theirs, ours = by_three(short, tmp_path), read(name, short)
    assert len(theirs["frames"]) == len(ours.rows) == 300
    for frame, places in zip(theirs["frames"], ours.places, strict=True):
        assert set(ours.skeleton.names) <= set(frame)
        for k, joint in enumerate(ours.skeleton.names):
            assert np.abs(np.array(frame[joint]) - places[k]).max() < 1e-4 * ours.skeleton.size


ORDERS = st.permutations(["Xrotation", "Yrotation", "Zrotation"])


@settings(max_examples=12, deadline=None)
@given(st.lists(ORDERS, min_size=4, max_size=4), st.integers(0, 10_000))
def test_odd_rotation_orders_are_read_as_they_are_said(tmp_path_factory, orders, seed):
    rng = np.random.default_rng(seed)
    lines, width = ["HIERARCHY"], 0
    for k, order in enumerate(orders):
        pad = "  " * k
        moves = "Xposition Yposition Zposition " if k == 0 else ""
        width += 3 + 3 * (k == 0)
        lines += [f"{pad}{'ROOT' if k == 0 else 'JOINT'} j{k}", f"{pad}{{", f"{pad}OFFSET {k} {2 * k} {-k}" if k else "OFFSET 0 0 0",
                  f"{pad}CHANNELS {6 if k == 0 else 3} {moves}{' '.join(order)}"]  # fmt: skip
    lines += ["End Site", "{", "OFFSET 0 1 0", "}", *["}"] * 4, "MOTION", "Frames: 5", "Frame Time: 0.04"]
    lines += [" ".join(f"{v:.5f}" for v in rng.uniform(-170, 170, width)) for _ in range(5)]
    theirs = by_three(("\n".join(lines) + "\n").encode(), tmp_path_factory.mktemp("odd"))
    crlf = ("\ufeff" + "\r\n".join(lines) + "\r\n").encode()
    ours = read("odd", crlf)
    for frame, places in zip(theirs["frames"], ours.places, strict=True):
        assert np.abs(np.array([frame[f"j{k}"] for k in range(4)]) - places).max() < 1e-4


def test_what_is_odd_is_told_and_what_is_broken_says_where():
    assert read("b", text("Boxing_Toes")).notes == ("It says 3,069 frames and has 3,070; these are taken.",)
    lines = text("01_01").decode().splitlines()
    at = next(i for i, line in enumerate(lines) if line.startswith("Frame Time"))
    short = [*lines[: at + 3], lines[at + 3].rsplit(" ", 2)[0], *lines[at + 4 : at + 9]]
    with pytest.raises(BadFile, match=f"Line {at + 4} holds"):
        read("short", "\n".join(short).encode())
    word = lines[: at + 3] + [lines[at + 3].replace(lines[at + 3].split()[2], "left", 1)]
    with pytest.raises(BadFile, match=f"Line {at + 4}"):
        read("word", "\n".join(word).encode())
    for broken, said in (
        (lines[:at], "no frames"), (lines[: at - 2], "no motion"), (["HIERARCHY", "ROOT a", "{", "OFFSET 0 x 0"] + lines[at - 2 :], "Line 4"),
        (["HIERARCHY", "ROOT a", "{", "OFFSET 0 0 0", "CHANNELS 2 Xrotation Wrotation", "}"] + lines[at - 2 :], "channels"),
        (["HIERARCHY", "ROOT a", "{", "OFFSET 0 0 0"] + lines[at - 2 :], "breaks off"),
    ):  # fmt: skip
        with pytest.raises(BadFile, match=said):
            read("broken", "\n".join(broken).encode())
    with pytest.raises(BadFile):
        read("zip", b"PK\x03\x04\0\0\0")
    with pytest.raises(BadFile):
        read_motion("motion.fbx", b"x")


@pytest.mark.parametrize(("name", "wanted"), [("01_01", CMU), ("Boxing_Toes", TOES)])
@pytest.mark.parametrize("who", ["otter", "newt"])
def test_joints_are_matched_by_build_proportion_and_name(name, wanted, who):
    found = {m.joint: m for m in matched(rigged(who), public(name).skeleton)}
    told = {j: found[j].source for j in wanted if j in found}
    assert told == {j: s for j, s in wanted.items() if j in found}
    assert all(found[j].sure > 0.9 for j in wanted if j in found)


@pytest.mark.parametrize("name", ["01_01", "Boxing_Toes"])
def test_a_skeleton_without_names_is_matched_by_its_build_alone(name):
    s = public(name).skeleton
    bare = Skeleton(tuple(f"node {i}" for i in range(len(s.names))), s.parents, s.offsets, s.channels, s.ends, s.end_of)
    named, found = matches(rigged("otter"), s), {m.joint: m for m in matched(rigged("otter"), bare)}
    limbs = [j for j in named if j.startswith(("thigh", "shin", "foot"))] + ["hips"]
    for joint in limbs:
        assert bare.names.index(found[joint].source) == s.names.index(named[joint])
        assert found[joint].sure < 0.9


def test_sides_are_read_off_names():
    for name, side in (
        ("LeftArm", "L"),
        ("arm_R", "R"),
        ("lThigh", "L"),
        ("Bip R Foot", "R"),
        ("Spine1", ""),
        ("mixed:RightHand", "R"),
        ("Lumbar", ""),
    ):
        assert side_of(name) == side


@pytest.mark.sampled(3)
@pytest.mark.parametrize("who", ["otter", "newt"])
@pytest.mark.parametrize("name", ["01_01", "Boxing_Toes"])
def test_feet_that_stand_in_the_capture_stand_here(who, name):
    """Contacts are decided in the capture; on the rig the joint that stands moves by at most 0.5 % of the leg's length."""
    c, capture = rigged(who), public(name)
    made = played(c, capture, matches(c, capture.skeleton), name)
    assert max(k.share for k in made.contacts) > 0.4
    assert max(k.slid for k in made.contacts) < 0.005
    again = kept(made.character, made.clip)  # measured anew, from the motion that was kept
    assert [k.foot for k in again] == [k.foot for k in made.contacts if k.stands]
    assert max(k.slid for k in again) < 0.005
    loose = played(c, capture, matches(c, capture.skeleton), name, plant=False)
    assert max(k.slid for k in loose.contacts) > max(k.slid for k in made.contacts)


@pytest.mark.sampled(2)
@pytest.mark.parametrize("who", ["runner", "hound", "stalker"])
def test_so_they_do_on_bodies_from_elsewhere(who):
    """Bodies of the judging kit: hooves without a ball, hocks, other proportions."""
    c = do(at_rest(who)[1], "limbs.outfit")
    capture = public("Boxing_Toes", 0, 150)
    made = played(c, capture, matches(c, capture.skeleton), "box")
    assert np.isfinite(made.character.arrays[f"clip/{made.clip}/values"]).all()
    assert max(k.share for k in made.contacts) > 0.4 and max(k.slid for k in made.contacts) < 0.005


def test_bones_go_the_capture_s_way():
    c, capture = rigged("otter"), public("01_01", 0, 300)
    told = matches(c, capture.skeleton)
    made = played(c, capture, told, "try", plant=False)
    motion, source = clip_motion(compile_rig(made.character), made.character, made.clip), capture.at_rate(c.rate)
    names = source.skeleton.names
    worst = 0.0
    for f in range(7, len(source.rows), 7):  # at first its legs are as straight as no leg of ours gets
        joints = motion.pose(f).joints[:, :, 3]
        for a, b in (
            ("upper_arm_L", "forearm_L"),
            ("forearm_R", "hand_R"),
            ("thigh_L", "shin_L"),
            ("shin_R", "foot_R"),
        ):
            ours = joints[c.joint_index[b]] - joints[c.joint_index[a]]
            theirs = source.places[f, names.index(told[b])] - source.places[f, names.index(told[a])]
            cos = ours @ theirs / np.linalg.norm(ours) / np.linalg.norm(theirs)
            worst = max(worst, float(np.degrees(np.arccos(np.clip(cos, -1, 1)))))
    assert worst < 1.0


def test_a_capture_that_lies_on_its_back_is_stood_up():
    """The same motion with z up, as many files have it, comes out the same."""
    s, c = public("01_01", 0, 120), rigged("otter")
    turn = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])
    rows = s.rows.copy()
    rows[:, :3] = rows[:, :3] @ turn.T
    from scipy.spatial.transform import Rotation

    order = "".join("XYZ"[a] for kind, a in s.skeleton.channels[0] if kind == "turn")
    root = Rotation.from_matrix(turn) * Rotation.from_euler(order, rows[:, 3:6], degrees=True)
    lying = Skeleton(
        s.skeleton.names,
        s.skeleton.parents,
        s.skeleton.offsets @ turn.T,
        s.skeleton.channels,
        s.skeleton.ends @ turn.T,
        s.skeleton.end_of,
    )
    # every joint's own axes are the world's at rest, so all turns are said about the other axes
    at = 3
    for channels in s.skeleton.channels:
        axes = "".join("XYZ"[a] for kind, a in channels if kind == "turn")
        own = Rotation.from_euler(axes, s.rows[:, at : at + 3], degrees=True)
        moved = Rotation.from_matrix(turn) * own * Rotation.from_matrix(turn.T)
        rows[:, at : at + 3] = moved.as_euler(axes, degrees=True)
        at += 3
    assert root is not None
    told = matches(c, s.skeleton)
    assert matches(c, lying) == told
    a = played(c, s, told, "a").character.arrays["clip/a/values"]
    made = played(c, Capture(lying, rows, s.rate), told, "b")
    motions = [
        clip_motion(compile_rig(k), k, n)
        for k, n in ((played(c, s, told, "a").character, "a"), (made.character, made.clip))
    ]
    for f in range(0, len(a), 5):
        assert np.abs(motions[0].pose(f).joints - motions[1].pose(f).joints).max() < 2e-3


@pytest.mark.sampled(3)
@pytest.mark.parametrize(("who", "gait"), [("otter", "walk"), ("newt", "trot"), ("beetle", "tripod")])
@pytest.mark.parametrize("ending", [".bvh", ".glb"])
def test_our_own_motion_goes_out_and_comes_back(who, gait, ending):
    c = do(rigged(who), "motion.walk", gait=gait, path=[(0, 0), (0.2, 0.7)])
    whole = do(c, "skin.bind") if ending == ".glb" else c
    capture = read_motion("own" + ending, written(whole, ending))
    assert capture.rate == pytest.approx(24, abs=1e-3)
    told = {m.joint: m.source for m in matched(c, capture.skeleton)}
    assert all(j.replace(" ", "_") == s.replace(" ", "_") for j, s in told.items() if s)
    made = played(c, capture, told, "back")
    a, b = (clip_motion(compile_rig(k), k, n) for k, n in ((c, "walk"), (made.character, made.clip)))
    off = [
        np.linalg.norm(a.pose(f).joints[:, :, 3] - b.pose(f).joints[:, :, 3], axis=1).max()
        for f in range(0, len(capture.rows), 4)
    ]
    assert max(off) < 0.012 * c.size


def test_what_it_can_t_be_played_on_says_so():
    capture, c = public("01_01", 0, 30), rigged("otter")
    with pytest.raises(BadParameters):
        played(c, capture, {"hips": "Nobody"}, "x")
    with pytest.raises(StepRefused):
        played(c, capture, {}, "x")
    from tests.core.test_faces import planned

    with pytest.raises(StepRefused, match="kit"):
        matched(planned("otter"), capture.skeleton)
    one = Skeleton(("a",), (-1,), np.zeros((1, 3)), ((("turn", 0),),), np.zeros((0, 3)), ())
    with pytest.raises(StepRefused):
        build_of(one)


def test_the_step_holds_all_that_it_needs_and_is_the_same_again():
    capture, c = public("Boxing_Toes", 0, 120), rigged("otter")
    params = bringing("box", capture, matches(c, capture.skeleton))
    one, two = do(c, "motion.bring", **params), do(c, "motion.bring", **params)
    assert np.array_equal(one.arrays["clip/box/values"], two.arrays["clip/box/values"])
    direct = played(c, capture, matches(c, capture.skeleton), "box").character
    assert np.abs(one.arrays["clip/box/values"] - direct.arrays["clip/box/values"]).max() < 1e-4
    assert one.clips[-1].stands == direct.clips[-1].stands


def test_stands_are_seen_where_a_foot_is_low_and_slow():
    t = np.arange(120) / 60
    place = np.stack(
        [0 * t, 0.3 * np.maximum(np.sin(2 * np.pi * t), 0), np.where(np.sin(2 * np.pi * t) > 0, 0.5 * t, 0.3)], 1
    )
    found = stands_of(place, 1.0, 60)
    assert len(found) == 2 and all(20 <= b - a <= 32 for a, b in found)
    still = np.zeros((60, 3))
    assert off_stands(still, [(0, 59)]).max() == 0.0
    still[30:] += [0.02, 0, 0]
    assert off_stands(still, [(0, 59)]).max() == pytest.approx(0.01)


def test_the_made_up_person_is_read_as_it_is_told():
    lines, rows = suit_lines(), []
    for line in lines:
        rows.append(line)
        if len(rows) > 400:
            break
    capture = read("suit", "\n".join(rows).encode())
    assert capture.rate == pytest.approx(60) and capture.skeleton.names == person().names
    frames = np.array([suit_row(i / 60) for i in range(len(capture.rows))])
    assert np.abs(capture.rows - frames).max() < 1e-3
    assert capture.places[:, :, 1].min() > -3  # nothing sinks under its ground (cm)
    assert {m.source for m in matched(rigged("otter"), capture.skeleton)} >= {"L_Humerus", "R_Tibia", "Skull"}
