"""Clips: kept, played, renamed with what they speak of, packed, and handed over as another reader plays them."""

import numpy as np
import pytest

from vonkel.core.character import Ref, Track
from vonkel.core.errors import VonkelError
from vonkel.core.formats.gltf_tree import Tree
from vonkel.core.handover import baked, scene_of, written
from vonkel.core.motion import values_at, values_between
from vonkel.core.rig import compile_rig
from vonkel.core.soundness import unsound
from vonkel.steps import apply_step
from vonkel.workshop import Workshop

FRAMES, RATE = 13, 24.0
TRACKS = (
    Track(thing="control:hand_L", channel="move y"),
    Track(thing="control:chest turn", channel="turn x"),
    Track(thing="shape:mouth open"),
)


def waving():
    share = np.linspace(0.0, 1.0, FRAMES)
    return np.stack([0.3 * np.sin(np.pi * share), 0.4 * share, share], 1)


@pytest.fixture(scope="module")
def moving(otter):
    made, said = apply_step(otter, "motion.add", {"name": "wave", "rate": RATE, "tracks": [t.model_dump() for t in TRACKS], "values": waving()})  # fmt: skip
    assert said == "Kept the motion wave"
    return made


def test_a_clip_gives_every_frame_and_what_lies_between(moving):
    clip, values = moving.clips[0], moving.arrays["clip/wave/values"]
    at = values_at(clip, values, 6)
    assert at["hand_L"]["move y"] == pytest.approx(0.3)
    assert at["shapes"]["mouth open"] == pytest.approx(0.5)
    between = values_between(clip, values, 6.5 / RATE)
    assert between["chest turn"]["turn x"] == pytest.approx(0.4 * 6.5 / 12, abs=1e-6)
    assert values_between(clip, values, 99.0)["chest turn"]["turn x"] == pytest.approx(0.4)  # the last frame is held
    assert unsound(moving) == ""


def test_a_clip_goes_along_with_the_names_it_speaks_of(moving):
    renamed, _ = apply_step(moving, "controls.rename", {"control": "hand_L", "name": "left hand"})
    renamed, _ = apply_step(renamed, "shapes.set", {"shape": "mouth open", "name": "gape"})
    assert [t.thing for t in renamed.clips[0].tracks] == ["control:left hand", "control:chest turn", "shape:gape"]
    renamed, _ = apply_step(renamed, "motion.set", {"clip": "wave", "name": "greeting", "rate": 30})
    assert renamed.clips[0].name == "greeting" and renamed.clips[0].rate == 30
    assert np.array_equal(renamed.arrays["clip/greeting/values"], moving.arrays["clip/wave/values"])
    assert "clip/wave/values" not in renamed.arrays
    gone, _ = apply_step(renamed, "motion.remove", {"clip": "greeting"})
    assert gone.clips == () and not [n for n in gone.arrays if n.startswith("clip/")]


@pytest.mark.parametrize("changes, why", [
    ({"values": np.zeros((4, 2))}, "one for each track"),
    ({"values": np.zeros((0, 3))}, "row of values"),
    ({"tracks": [{"thing": "control:nobody", "channel": "move x"}], "values": np.zeros((3, 1))}, "no channel"),
    ({"tracks": [{"thing": "shape:nothing"}], "values": np.zeros((3, 1))}, "no shape"),
    ({"tracks": [{"thing": "joint:hips"}], "values": np.zeros((3, 1))}, "pattern"),
    ({"rate": 0}, "greater"),
])  # fmt: skip
def test_a_clip_that_cant_be_is_refused_in_words(otter, changes, why):
    params = {"name": "x", "tracks": [t.model_dump() for t in TRACKS], "values": waving()} | changes
    with pytest.raises(VonkelError, match=why):
        apply_step(otter, "motion.add", params)


def test_a_clip_survives_the_store_and_a_character_file(moving, tmp_path):
    workshop = Workshop(tmp_path / "a")
    number = workshop.add(moving, {}, "made", 0.0)
    there = Workshop(tmp_path / "b")
    again = there.character(there.bring_in("m.vonkel", workshop.pack(number)))
    assert again.clips == moving.clips
    assert np.array_equal(again.arrays["clip/wave/values"], moving.arrays["clip/wave/values"])


def test_a_take_is_the_rig_at_every_frame(moving):
    """Frame by frame the scene's nodes are what the rig gives, and the file holds them as glTF 2.0, section 3.11, asks."""
    take = scene_of(moving).takes[0]
    program = compile_rig(moving)
    names = list(baked(moving, program.evaluate({})))
    for frame in (0, 5, FRAMES - 1):
        values = values_at(moving.clips[0], moving.arrays["clip/wave/values"], frame)
        wanted = baked(moving, program.evaluate(values))
        for i, name in enumerate(names):
            place, turn, scale = wanted[name]
            assert np.abs(take.places[frame, i] - place).max() < 1e-9
            assert abs(abs(take.turns[frame, i] @ turn) - 1.0) < 1e-9
            assert np.abs(take.scales[frame, i] - scale).max() < 1e-9
    tree = Tree("m.glb", written(moving, ".glb"))
    animation = tree.json["animations"][0]
    assert animation["name"] == "wave"
    for channel in animation["channels"]:
        sampler = animation["samplers"][channel["sampler"]]
        times = tree.accessor(sampler["input"])
        assert np.allclose(times, np.arange(FRAMES) / RATE)
        width = {"translation": 3, "rotation": 4, "scale": 3, "weights": 1}[channel["target"]["path"]]
        rows = tree.accessor(sampler["output"])
        assert rows.shape == ((FRAMES, width) if width > 1 else (FRAMES,))
    moved = {tree.json["nodes"][c["target"]["node"]]["name"] for c in animation["channels"]}
    assert {"upper_arm_L", "forearm_L", "spine_1"} <= moved
    assert Ref.shape("mouth open").name in tree.json["meshes"][0]["extras"]["targetNames"]
