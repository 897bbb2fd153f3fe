"""BVH against three.js's own reader: every joint at every frame stands where the rig puts it."""

import json
import subprocess

import numpy as np
import pytest

from tests.conftest import ROOT
from tests.core.test_walking import played, rigged
from vonkel.core.character import Ref, Track
from vonkel.core.handover import written
from vonkel.core.motion import with_clip
from vonkel.steps import apply_step


def read(data, tmp_path):
    path = tmp_path / "motion.bvh"
    path.write_bytes(data)
    done = subprocess.run(
        ["node", ROOT / "tests/web/bvh.mjs", path], capture_output=True, text=True, cwd=ROOT, check=False
    )
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def off(character, clip, told):
    """The farthest that a joint lies from where the rig puts it, metres."""
    poses = played(character, clip)
    assert len(told["frames"]) == len(poses)
    worst = 0.0
    for pose, frame in zip(poses, told["frames"], strict=True):
        for k, j in enumerate(character.joints):
            worst = max(
                worst, float(np.abs(np.array(frame["_".join(j.name.split())]) / 100 - pose.joints[k, :, 3]).max())
            )
    return worst


@pytest.mark.parametrize(("name", "gait"), [("newt", "walk"), ("beetle", "tripod")])
def test_a_walk_goes_out_as_it_is(name, gait, tmp_path):
    c, _ = apply_step(rigged(name), "motion.walk", {"gait": gait, "path": [(0, 0), (0.3, 0.6)]})
    told = read(written(c, ".bvh"), tmp_path)
    assert off(c, "walk", told) < 1e-5 * c.size
    assert np.allclose(np.diff(told["times"]), 1 / 24, atol=1e-6)


def test_joints_that_move_in_their_parents_go_along(tmp_path):
    c = rigged("otter")
    tracks = tuple(
        Track(thing=Ref.control(n), channel=k)
        for n, k in (("hand_L", "move x"), ("hand_L", "stretch"), ("chest turn", "turn z"), ("hips move", "move y"))
    )
    values = np.linspace(0, 1, 12)[:, None] * [1.0, 1.0, 0.4, 0.05]
    c = with_clip(c, "reach", 30.0, tracks, values)
    data = written(c, ".bvh")
    assert off(c, "reach", read(data, tmp_path)) < 1e-5 * c.size
    text = data.decode()
    assert text.startswith("HIERARCHY\nROOT ") and text.count("ROOT") == 1 and "Frames: 12" in text
    assert text.count("CHANNELS 6") >= 2 and text.count("{") == text.count("}")


def test_without_a_motion_the_skeleton_stands_at_rest(tmp_path):
    c = rigged("bat")
    told = read(written(c, ".bvh"), tmp_path)
    (frame,) = told["frames"]
    for j in c.joints:
        assert np.allclose(np.array(frame["_".join(j.name.split())]) / 100, j.place, atol=1e-6 * c.size)
