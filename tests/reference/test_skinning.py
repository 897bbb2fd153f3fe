"""Skinning against other people's code and published facts.

libigl `lbs_matrix` (linear), OpenUSD UsdSkel `ComputeSkinnedPoints` (linear and dual quaternion), and
Kavan, Collins, Žára, O'Sullivan 2008, Geometric skinning with approximate dual quaternion blending.
"""

from dataclasses import replace

import igl
import numpy as np
import pytest
from pxr import Gf, UsdSkel, Vt
from scipy.spatial.transform import Rotation

from vonkel.core.character import Arrays, Character, Joint, Part, Skin
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer, reference


def random_pose(c: Character, seed: int, angle: float = 1.0, far: float = 0.05):
    """Rigid frames: each joint turned and moved at random from rest."""
    rng = np.random.default_rng(seed)
    rest = compile_rig(c).evaluate({})
    turns = Rotation.from_rotvec(rng.normal(0, angle, (len(c.joints), 3))).as_matrix()
    frames = rest.joints.copy()
    frames[:, :, :3] = turns @ frames[:, :, :3]
    frames[:, :, 3] += rng.normal(0, far, (len(c.joints), 3))
    return replace(rest, joints=frames)


def dense(c: Character) -> np.ndarray:
    w = np.zeros((len(c.points), len(c.skin.joints)))
    np.add.at(w, (np.arange(len(w))[:, None], c.arrays["skin/joints"]), c.arrays["skin/weights"].astype(float))
    return w


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_linear_skinning_is_libigls(otter, seed):
    d, pose = Deformer(otter), random_pose(otter, seed)
    order = [otter.joint_index[n] for n in otter.skin.joints]
    stacked = pose.skin_matrices(d.rest_inverse)[order].transpose(0, 2, 1).reshape(-1, 3)
    expected = igl.lbs_matrix(otter.points, dense(otter)) @ stacked
    assert np.abs(d.deform(pose, "linear") - expected).max() < 2e-6 * otter.height


@pytest.mark.parametrize("method", ["linear", "dual"])
def test_skinning_is_openusds(otter, method):
    d, pose = Deformer(otter), random_pose(otter, 7, angle=0.5)
    m = np.zeros((len(otter.joints), 4, 4))
    m[:, :3] = pose.skin_matrices(d.rest_inverse)
    m[:, 3, 3] = 1
    order = [otter.joint_index[n] for n in otter.skin.joints]
    xforms = Vt.Matrix4dArray([Gf.Matrix4d(*x.T.ravel().tolist()) for x in m[order]])
    # both sum weights in the order given, and take signs against the first: the heaviest comes first
    joints, weights = otter.arrays["skin/joints"], otter.arrays["skin/weights"]
    points = Vt.Vec3fArray.FromNumpy(otter.points.astype(np.float32))
    ok = UsdSkel.SkinPoints(
        UsdSkel.Tokens.classicLinear if method == "linear" else UsdSkel.Tokens.dualQuaternion, Gf.Matrix4d(1), xforms,
        Vt.IntArray.FromNumpy(joints.astype(np.int32).ravel()), Vt.FloatArray.FromNumpy(weights.ravel()), 4, points,
    )  # fmt: skip
    assert ok
    assert np.abs(np.array(points) - d.deform(pose, method)).max() < 5e-6 * otter.height


def bar(angle: float, method: str) -> np.ndarray:
    """A ring of radius 1 about x, held half by a still joint and half by one turned by `angle` about x."""
    a = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    points = np.stack([0 * a, np.cos(a), np.sin(a)], 1)
    arrays = {
        "points": points, "face_starts": np.array([0, 24], np.int32), "face_corners": np.arange(24, dtype=np.int32),
        "skin/joints": np.tile(np.array([[0, 1, 0, 0]], np.uint16), (24, 1)),
        "skin/weights": np.tile(np.array([[0.5, 0.5, 0, 0]], np.float32), (24, 1)),
    }  # fmt: skip
    joints = (Joint(name="a", place=(-1, 0, 0)), Joint(name="b", place=(0, 0, 0), parent="a"))
    c = Character(
        name="bar", parts=(Part(name="bar", points=(0, 24), faces=(0, 1)),), joints=joints, skin=Skin(joints=("a", "b"), method=method),
        arrays=Arrays(arrays),
    )  # fmt: skip
    rest = compile_rig(c).evaluate({})
    frames = rest.joints.copy()
    frames[1, :, :3] = Rotation.from_rotvec([angle, 0, 0]).as_matrix()
    return Deformer(c).deform(replace(rest, joints=frames))


@pytest.mark.parametrize("degrees", [0, 30, 90, 150, 180])
def test_linear_skinning_collapses_by_the_cosine_of_half_the_twist(degrees):
    """Kavan et al. 2008, section 1: the candy-wrapper; the mean of two rotations by 0 and θ has norm cos(θ/2)."""
    angle = np.radians(degrees)
    radius = np.linalg.norm(bar(angle, "linear")[:, 1:], axis=1)
    assert np.allclose(radius, np.cos(angle / 2), atol=1e-6)


@pytest.mark.parametrize("degrees", [0, 30, 90, 150, 179])
def test_dual_quaternions_keep_the_radius(degrees):
    """Kavan et al. 2008: the blend of rigid motions is a rigid motion, here the half turn."""
    out = bar(np.radians(degrees), "dual")
    assert np.allclose(np.linalg.norm(out[:, 1:], axis=1), 1.0, atol=1e-6)
    half = Rotation.from_rotvec([np.radians(degrees) / 2, 0, 0]).apply(bar(0.0, "dual"))
    assert np.allclose(out, half, atol=1e-5)


@pytest.mark.parametrize("influences", [1, 3, 4, 6])
def test_compiled_loops_are_their_plain_twins(influences):
    rng = np.random.default_rng(influences)
    n, j = 500, 9
    points = rng.normal(size=(n, 3)).astype(np.float32)
    joints = rng.integers(0, j, (n, influences)).astype(np.uint16)
    weights = rng.random((n, influences)).astype(np.float32)
    weights[rng.random((n, influences)) < 0.3] = 0
    weights[:, 0] += 0.1
    weights = -np.sort(-weights / weights.sum(1, keepdims=True), axis=1)
    m = np.zeros((j, 3, 4))
    m[:, :, :3], m[:, :, 3] = Rotation.random(j, random_state=4).as_matrix(), rng.normal(size=(j, 3))
    from vonkel.core.skin import kernels

    out, flat = np.empty_like(points), m.reshape(-1, 12).astype(np.float32)
    (kernels.linear4 if influences == 4 else kernels.linear_any)(points, joints, weights, flat, out)
    assert np.abs(out - reference.linear(points, joints, weights, m)).max() < 1e-5
    q = np.empty((j, 8), np.float32)
    kernels.dual_quaternions(m, q)
    expected = reference.dual_quaternions(m)
    assert np.abs(q * np.sign(q[:, :1]) - expected * np.sign(expected[:, :1])).max() < 1e-6
    kernels.dual(points, joints, weights, q, out)
    blended = np.linalg.norm((weights[:, :, None] * expected[joints][:, :, :4]).sum(1), axis=1)
    safe = blended > 0.05  # where turns cancel, no blend is defined
    assert np.abs(out - reference.dual(points, joints, weights, m))[safe].max() < 1e-3


def test_deforming_again_and_again_is_deforming_once(otter):
    """Only what moved since the last pose is deformed again; every answer is that of a fresh deformer."""
    program, again = compile_rig(otter), Deformer(otter)
    rng = np.random.default_rng(8)
    inputs = {}
    for i in range(25):
        control = rng.choice(["hand_L", "hand_R", "tail_3 turn", "chest turn", "foot_L", "jaw turn", "shapes"])
        channel = {"shapes": "mouth open"}.get(control, "turn x" if "turn" in control else "move y")
        inputs = {**inputs, control: {channel: float(rng.choice([0.0, 0.1, 0.3]))}} if i % 7 else {}
        if i % 5 == 4:
            inputs = {**inputs, "hand_R": {"move x": -0.4, "stretch": 1.0}}
        pose, method = program.evaluate(inputs), ["dual", "linear"][i % 6 == 5]
        assert np.array_equal(again.deform(pose, method), Deformer(otter).deform(pose, method)), i


def test_halves_of_a_turn_are_singular_for_no_axis():
    m = np.zeros((4, 3, 4))
    m[:, :, :3] = Rotation.from_rotvec(np.pi * np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [0.6, 0.8, 0]])).as_matrix()
    from vonkel.core.skin import kernels

    q = np.empty((4, 8), np.float32)
    kernels.dual_quaternions(m, q)
    assert np.allclose(np.linalg.norm(q[:, :4], axis=1), 1, atol=1e-6) and np.isfinite(q).all()


def test_scale_is_the_joints_own_in_both_methods(otter):
    """A stretched arm lengthens its own skin; the hand keeps its size in linear and dual skin alike."""
    program, d = compile_rig(otter), Deformer(otter)
    pose = program.evaluate({"hand_L": {"move x": 0.35, "stretch": 1.0}})
    assert pose.scaled
    tip = np.argmin(np.linalg.norm(otter.points - np.array(otter.joint("middle_end_L").place), axis=1))
    near = np.flatnonzero(np.linalg.norm(otter.points - otter.points[tip], axis=1) < 0.02)
    rest = np.linalg.norm(otter.points[near] - otter.points[tip], axis=1)
    for method in ("linear", "dual"):
        out = d.deform(pose, method)
        assert np.allclose(np.linalg.norm(out[near] - out[tip], axis=1), rest, atol=1e-3)
