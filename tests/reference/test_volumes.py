"""Volumes with and without muscle and volume keeping, measured by trimesh (signed volume of the closed body)."""

import numpy as np
import pytest
import trimesh

from tests.conftest import tube
from vonkel.core.character import Joint, Kit
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry.topology import topology_of
from vonkel.core.joints.orient import turn_down_bones
from vonkel.core.rig import compile_rig
from vonkel.core.rig.fitting import add_kit
from vonkel.core.skin import Deformer
from vonkel.core.skin.bind import bind_skin
from vonkel.steps import apply_step


def volume(c, inputs):
    points = Deformer(c).deform(compile_rig(c).evaluate(inputs))
    return trimesh.Trimesh(points, topology_of(c).triangles, process=False).volume


@pytest.fixture(scope="module")
def column():
    """A tube with five joints, bound."""
    c = character_from_mesh(tube(65, 32), "column")
    places = [0.1, 0.3, 0.5, 0.7, 0.9]
    joints = tuple(
        Joint(name=f"s{i}", parent=f"s{i - 1}" if i else None, place=(0.0, y, 0.0), role=f"s{i}")
        for i, y in enumerate(places)
    )
    return bind_skin(turn_down_bones(c.with_(joints=joints)))


def test_a_stretched_spine_and_chest_keep_their_volume(column):
    """The body's own gain when it is drawn out by a fifth of its length, with volume keeping and without."""
    c = add_kit(column, Kit(name="body", kind="body", joints={"hips": ("s0",), "spine": ("s1", "s2", "s3", "s4")}))
    rest = volume(c, {})
    pull = {"chest turn": {"move y": 0.12, "stretch": 1.0}}
    kept, loose = (volume(c, {"chest turn": pull["chest turn"] | {"volume": v}}) / rest - 1 for v in (1.0, 0.0))
    assert loose > 0.10 and abs(kept) < 0.25 * loose


def test_a_stretched_tail_keeps_its_volume(column):
    c = add_kit(
        column,
        Kit(name="tail", kind="chain", joints={"chain": ("s0", "s1", "s2", "s3", "s4")}, options={"controls": 3}),
    )
    rest = volume(c, {})
    kept, loose = (volume(c, {"tail 3": {"move y": 0.3, "stretch": 1.0, "volume": v}}) / rest - 1 for v in (1.0, 0.0))
    assert loose > 0.15 and abs(kept) < 0.3 * loose


def test_a_muscle_gives_back_what_an_elbow_loses(otter):
    """The forearm bent by 90°: linear skinning loses flesh at the crease; a bulging biceps gives it back."""
    bent = {"hand_L": {"ik": 0.0}, "forearm_L turn": {"turn z": np.radians(90)}}
    plain, _ = apply_step(otter, "skin.method", {"method": "linear"})
    made, _ = apply_step(
        plain,
        "limbs.muscle",
        {"name": "biceps", "first": "upper_arm_L", "second": "forearm_L", "flexes": "forearm_L", "bulge": 0.5},
    )
    sums = made.arrays["skin/weights"].astype(float).sum(1)
    assert np.abs(sums - 1).max() < 1e-5 and "biceps_L" in made.skin.joints and "biceps_R" in made.skin.joints
    before = volume(plain, bent) - volume(plain, {})
    after = volume(made, bent) - volume(made, {})
    assert before < 0 and after > before + 0.25 * abs(before)
    assert volume(made, {}) == pytest.approx(volume(plain, {}), rel=1e-6)
