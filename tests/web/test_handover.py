"""What is handed over: the Khronos glTF validator finds no error, and three.js deforms it as Vonkel does."""

import json
import subprocess

import numpy as np
import pytest

from tests.conftest import ROOT
from tests.reference.test_skinning import random_pose
from vonkel.core.character import Shape
from vonkel.core.formats.gltf_tree import Tree
from vonkel.core.handover import baked, written
from vonkel.core.linear.baking import handed_over
from vonkel.core.linear.targets import with_correctives
from vonkel.core.motion.keyed import at_rate
from vonkel.core.rig import compile_rig
from vonkel.core.rig.motion import clip_motion
from vonkel.core.shapes import with_moves, with_shape
from vonkel.core.skin import Deformer
from vonkel.core.skin.correctives import Correctives
from vonkel.core.skin.deform import HANDED, rest_inverses
from vonkel.steps.registry import apply_step
from vonkel.workshop import Workshop


def test_the_khronos_validator_finds_no_error(otter, tmp_path):
    path = tmp_path / "otter.glb"
    path.write_bytes(written(otter, ".glb"))
    done = subprocess.run(
        ["node", ROOT / "tests/web/validate.cjs", path], capture_output=True, text=True, cwd=ROOT, check=True
    )
    report = json.loads(done.stdout)
    assert report["issues"]["truncated"] is False
    assert report["issues"]["numErrors"] == 0 and report["issues"]["numWarnings"] == 0, report["issues"]["messages"][:5]
    assert (
        report["info"]["totalVertexCount"] == len(otter.points)
        and report["info"]["hasSkins"]
        and report["info"]["hasMorphTargets"]
    )


SKIN = """async ({url, nodes, poses}) => {
  const THREE = await import("three");
  const { GLTFLoader } = await import("three/loader");
  const gltf = await new Promise((ok, no) => new GLTFLoader().load(url, ok, undefined, no));
  const objects = [];
  for (const [name, index] of nodes) objects.push([name, await gltf.parser.getDependency("node", index)]);
  const meshes = [];
  gltf.scene.traverse((o) => { if (o.isSkinnedMesh) meshes.push(o); });
  const out = [];
  for (const {locals, shapes} of poses) {
    for (const [name, o] of objects) {
      const [t, q, s] = locals[name];
      o.position.set(...t); o.quaternion.set(...q); o.scale.set(...s);
    }
    gltf.scene.updateMatrixWorld(true);
    const places = [], v = new THREE.Vector3();
    for (const m of meshes) {
      m.skeleton.update();
      if (m.morphTargetInfluences) shapes.forEach((x, i) => { m.morphTargetInfluences[i] = x; });
      for (let i = 0; i < m.geometry.attributes.position.count; i++) { m.getVertexPosition(i, v); places.push(v.x, v.y, v.z); }
    }
    out.push(places);
  }
  return out;
}"""


def test_three_js_deforms_it_exactly_the_same(otter, server, browser):
    """Random joint poses, a control pose, and a stretched arm (joint scale), with the morph target on."""
    _as_three_js(otter, server, browser)


def test_so_it_does_with_joints_between_others(otter, server, browser):
    """The skin that goes out with weights of its own: the file carries those joints and three.js plays them."""
    handed = with_correctives(handed_over(otter, most=4), 3)
    assert len(handed.skin.handed.correctives) == 3
    assert len(handed.skin.handed.between) == 4
    _as_three_js(handed, server, browser)


def test_morph_targets_go_out_unchanged_and_shapes_of_shapes_play_as_ours(otter, server, browser):
    """Targets of a combination, an in-between and a board, at rest to a millionth of the height, and in a pose."""
    c = otter
    for name, way in (("left", [0.01, 0, 0]), ("up", [0, 0.02, 0.003])):
        moves = np.where(c.points[:, 1:2] > 1.0, np.array(way) * (c.points[:, 1:2] - 1.0), 0.0) * 4
        c = with_shape(c, Shape(name=name), moves)
    c, _ = apply_step(c, "shapes.together", {"shapes": ["left", "up"], "name": "both"})
    c, _ = apply_step(c, "shapes.between", {"shape": "up", "at": 0.5})
    for name in ("both", "up at 0.5"):
        c = with_moves(c, name, np.sin(40 * c.points) * 0.002 * (c.points[:, 1:2] > 1.0))
    c, _ = apply_step(c, "boards.make", {"name": "b", "shapes": ["left", "up"]})
    program = compile_rig(c)
    at = [{"shapes": {s.name: 1.0}} for s in c.shapes] + [
        {"shapes": {"left": 0.6, "up": 0.5}}, {"board:b": {"across": -0.4, "up": 0.3}, "head turn": {"turn y": 0.5}},
    ]  # fmt: skip
    poses = [program.evaluate(v) for v in at]
    assert poses[-1].shapes["both"] > 0 and poses[-2].shapes["up at 0.5"] == 1
    _as_three_js(c, server, browser, poses, 1e-6)


def _as_three_js(otter, server, browser, poses=None, within=1e-5):
    number = Workshop(server.store).add(otter, {}, "Brought in")
    program, deformer = compile_rig(otter), Deformer(otter)
    if poses is None:
        poses = [random_pose(otter, s, angle=0.6) for s in (1, 2)]
        values = {"hand_L": {"move y": 0.2}, "chest turn": {"turn x": 0.5}, "shapes": {"mouth open": 0.7}}
        poses.append(program.evaluate(values))
        values = {"hand_L": {"move x": 0.4, "stretch": 1}, "foot_R": {"move z": -0.3, "stretch": 1}}
        poses.append(program.evaluate(values))
        assert poses[-1].scaled
    handed, inverse = otter.skin.handed, rest_inverses(otter)
    targets = Correctives(otter, handed.correctives if handed else ())
    tree = Tree("otter.glb", written(otter, ".glb"))
    index = {n["name"]: i for i, n in enumerate(tree.json["nodes"]) if "mesh" not in n}
    given = []
    for pose in poses:
        locals_ = {n: [t.tolist(), q[[1, 2, 3, 0]].tolist(), s.tolist()] for n, (t, q, s) in baked(otter, pose).items()}
        given.append(
            {
                "locals": locals_,
                "shapes": [
                    *(pose.shapes.get(s.name, 0.0) for s in otter.shapes),
                    *targets.strengths(pose.rigid_matrices(inverse)).tolist(),
                ],
            }
        )
    page = browser.new_page()
    page.goto(server.base)
    url = f"{server.base}/api/c/{number}/export.glb"
    answers = page.evaluate(SKIN, {"url": url, "nodes": list(index.items()), "poses": given})
    page.close()
    for pose, places in zip(poses, answers, strict=True):
        theirs = np.array(places).reshape(-1, 3)
        ours = deformer.deform(pose, HANDED)
        assert theirs.shape == ours.shape
        assert np.abs(theirs - ours).max() < within * otter.height
    moved = np.abs(np.array(answers[0]) - np.array(answers[1])).max()
    assert moved > (0.05 if within == 1e-5 else 0.001)  # they were different poses


PLAYED = """async ({url, times, clip}) => {
  const THREE = await import("three");
  const { GLTFLoader } = await import("three/loader");
  const gltf = await new Promise((ok, no) => new GLTFLoader().load(url, ok, undefined, no));
  const meshes = [];
  gltf.scene.traverse((o) => { if (o.isSkinnedMesh) meshes.push(o); });
  const mixer = new THREE.AnimationMixer(gltf.scene);
  const action = mixer.clipAction(gltf.animations.find((a) => a.name === clip));
  action.setLoop(THREE.LoopOnce);
  action.clampWhenFinished = true;
  action.play();
  return times.map((t) => {
    mixer.setTime(t);
    gltf.scene.updateMatrixWorld(true);
    const places = [], v = new THREE.Vector3();
    for (const m of meshes) {
      m.skeleton.update();
      for (let i = 0; i < m.geometry.attributes.position.count; i++) { m.getVertexPosition(i, v); places.push(v.x, v.y, v.z); }
    }
    return places;
  });
}"""


@pytest.mark.sampled(1)
@pytest.mark.parametrize("rate", [0, 30])
def test_a_clip_played_by_three_js_own_animation_gives_our_skin_at_its_frames(otter, server, browser, rate):
    """A walk with a stretched arm and a shape, and keys of poses: at every frame to 1e-5 of the height; also baked at another rate."""
    c, _ = apply_step(otter, "motion.walk", {})
    posed = {"hand_L": {"move x": 0.4, "stretch": 1.0}, "shapes": {"mouth open": 0.7}, "chest turn": {"turn x": 0.4}}
    for frame, values in ((0, {"head turn": {"turn y": 0.5}}), (9, posed), (20, {"foot_R": {"move z": -0.2}})):
        c, _ = apply_step(c, "keys.pose", {"clip": "keyed", "frame": frame, "values": values})
    number = Workshop(server.store).add(c, {}, "Brought in")
    page = browser.new_page()
    page.goto(server.base)
    deformer = Deformer(c)
    for name, frames in (("walk", (0, 7, 31, 60)), ("keyed", (0, 5, 9, 14, 20))):
        shown = at_rate(c, name, rate) if rate else c
        clip = next(k for k in shown.clips if k.name == name)
        url = f"{server.base}/api/c/{number}/export.glb" + (f"?rate={rate}" if rate else "")
        times = [f / clip.rate for f in frames]
        motion = clip_motion(compile_rig(shown), shown, name)
        answers = page.evaluate(PLAYED, {"url": url, "times": times, "clip": name})
        for f, places in zip(frames, answers, strict=True):
            ours = deformer.deform(motion.pose(f), HANDED)
            assert np.abs(np.array(places).reshape(-1, 3) - ours).max() < 1e-5 * c.height
    page.close()


@pytest.mark.parametrize("influences", [1, 6])
def test_other_influence_counts_are_valid_too(tube_character, tmp_path, influences):
    from vonkel.core.skin.bind import bind_skin

    path = tmp_path / "tube.glb"
    path.write_bytes(written(bind_skin(tube_character, influences), ".glb"))
    done = subprocess.run(
        ["node", ROOT / "tests/web/validate.cjs", path], capture_output=True, text=True, cwd=ROOT, check=True
    )
    report = json.loads(done.stdout)
    assert report["issues"]["numErrors"] == 0, report["issues"]["messages"][:5]
