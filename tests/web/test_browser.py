"""The main path, driven with the mouse in a real browser: on the demo, and on a figure that isn't the demo."""

import json

import numpy as np
import pytest

from tests.bodies import mannequin
from tests.conftest import ROOT
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.handover import written
from vonkel.demo import DATA


def lay_and_drag_a_joint(page, joint="forearm_L"):
    """Lay the plan, then drag a joint in the front drawing; it moves there, and its partner with it."""
    page.station("joints")
    page.click("Choose a plan")
    page.page.locator(".plans").get_by_role("button", name="biped").click()
    page.click("Lay the joints")
    page.wait("vonkel.state.joints.length > 20")
    page.wait("document.getElementById('job').hidden")
    before = page.state(f"joints.find(j => j.name === '{joint}').place")
    scale = page.js("vonkel.plate.scale")
    page.drag(page.joint_at("front", joint), (6, -5))
    page.wait("vonkel.state.last.sentence.startsWith('Moved')")
    place = lambda n: np.array(page.state(f"joints.find(j => j.name === '{n}').place"))  # noqa: E731
    after = place(joint)
    assert np.allclose((after - before)[:2], [6 / scale, 5 / scale], atol=1.5 / scale) and after[2] == pytest.approx(
        before[2]
    )
    assert np.allclose(after * [-1, 1, 1], place(joint.replace("_L", "_R")))
    page.drag(page.joint_at("side", joint), (5, 0))  # to the right in the side drawing is backward
    page.wait(f"vonkel.state.joints.find(j => j.name === '{joint}').place[2] < {before[2]} - 0.005")


def rig_pose_and_try(page):
    """Kits, binding, dragging a hand, undoing it, the trials, and going to the worst pose."""
    page.station("limbs")
    page.click("Put on what the joints call for")
    page.wait("vonkel.state.kits.length > 5")
    page.station("skin")
    page.click("Bind")
    page.wait("vonkel.state.skin && document.getElementById('job').hidden", 90)
    page.page.locator("[data-joint=forearm_L]").click()
    page.wait("vonkel.plate.mesh.geometry.attributes.value.array.some(v => v > 0.9)")
    page.station("limbs")
    page.wait("vonkel.live.idle && vonkel.plate.controlFrames")
    rest = np.array(page.js("Array.from(vonkel.plate.points)")).reshape(-1, 3)
    at = page.control_at("free", "hand_L")
    page.drag(at, (-15, -110))
    page.wait("vonkel.values.hand_L && vonkel.state.position.pose > 0")
    moved = np.array(page.js("Array.from(vonkel.plate.points)")).reshape(-1, 3)
    far = np.linalg.norm(moved - rest, axis=1)
    hand = np.array(page.state("joints.find(j => j.name === 'hand_L').place"))
    near = np.linalg.norm(rest - hand, axis=1) < 0.05 * page.state("height")
    assert far[near].mean() > 0.05 and np.median(far[rest[:, 0] < 0]) < 0.01  # the hand followed, the other side stayed
    assert page.js("vonkel.live.sequence - vonkel.live.shown") <= 1
    page.page.keyboard.press("Control+z")
    page.wait("Object.keys(vonkel.values).length === 0 && vonkel.live.idle")
    page.wait("Math.abs(vonkel.plate.points[1] - vonkel.plate.rest[1]) < 1e-5")
    page.station("trials")
    page.page.locator("#run-trials").click()
    page.wait("vonkel.strip.cards.length >= 9 && vonkel.strip.fresh")
    cards = page.js("vonkel.strip.cards.map(c => c.badness)")
    assert cards == sorted(cards, reverse=True)
    page.page.locator(".pose-card").first.click()
    page.wait("vonkel.trial === vonkel.strip.cards[0].name && vonkel.plate.material.uniforms.mode.value === 2")
    page.wait("vonkel.plate.mesh.geometry.attributes.value.array.some(v => v > 0.3)")
    assert page.page.get_by_text("Volume by limb").is_visible()


def take_the_rig(page, path):
    page.station("handover")
    with page.page.expect_download() as waiting:
        page.page.locator("#export-glb").click()
    waiting.value.save_as(path)
    from vonkel.core.formats import read_character

    return read_character(path.name, path.read_bytes())


def test_the_main_path_on_the_demo(page, tmp_path):
    page.open("/")
    page.page.locator("a[href='/c/1/model']").click()
    page.wait("vonkel.state && vonkel.plate.mesh")
    page.open(page.js("location.pathname"))
    page.wait("vonkel.state && vonkel.plate.mesh")
    lay_and_drag_a_joint(page)
    rig_pose_and_try(page)
    page.station("shapes")
    slider = page.page.locator("input[type=number][aria-label^='shapes mouth open']")
    slider.fill("1")
    slider.press("Tab")
    page.wait("vonkel.state.pose.values.shapes?.['mouth open'] === 1")
    page.station("face")
    page.wait("vonkel.plate.controlFrames && vonkel.live.idle")
    eye = page.js(
        "Array.from(vonkel.plate.frames.slice(12 * vonkel.plate.index.get('eye_L'), 12 * vonkel.plate.index.get('eye_L') + 12))"
    )
    page.drag(page.control_at("front", "eyes aim"), (90, 30))
    page.wait("vonkel.values['eyes aim']")
    now = page.js(
        "Array.from(vonkel.plate.frames.slice(12 * vonkel.plate.index.get('eye_L'), 12 * vonkel.plate.index.get('eye_L') + 12))"
    )
    assert np.abs(np.array(now) - eye).max() > 0.05
    number = page.state("number")
    page.page.get_by_label("Pose name").fill("glance")
    page.click("Save")
    page.wait("vonkel.state.poses.includes('glance')")
    page.open(f"/c/{number}/face")  # a reload loses nothing
    page.wait("vonkel.state && vonkel.values['eyes aim'] && vonkel.values.shapes")
    page.page.keyboard.press("b")
    page.wait("Object.keys(vonkel.state.pose.values).length === 0")
    rig = take_the_rig(page, tmp_path / "lutra.glb")
    assert len(rig.joints) > 60 and [s.name for s in rig.shapes] == ["mouth open"]


def test_the_main_path_on_another_figure(page, tmp_path):
    mesh = tmp_path / "figure.obj"
    mesh.write_bytes(
        written(character_from_mesh(mannequin(height=17.5, cell=0.3), "figure"), ".obj")
    )  # ten times too large
    page.take_in(mesh, "Wicket")
    field = page.page.get_by_label("height, cm")
    field.fill("172")
    field.press("Enter")
    page.wait("Math.abs(vonkel.state.height - 1.72) < 1e-6")
    lay_and_drag_a_joint(page)
    rig_pose_and_try(page)
    rig = take_the_rig(page, tmp_path / "wicket.glb")
    assert rig.height == pytest.approx(1.72, abs=1e-4) and rig.skin is not None


def test_bad_upload_is_said_on_the_shelf(page, tmp_path):
    words = tmp_path / "letter.glb"
    words.write_text("Dear rigger, this is no mesh at all.")
    page.open("/")
    page.page.locator("input[type=file]").set_input_files(words)
    page.click("Bring in")
    page.page.get_by_text("doesn't begin as a .glb file does").wait_for()
    page.troubles.clear()  # the browser notes the refused request


def test_finder_ledger_keys_and_conflict(page, server):
    number = json.loads(page.page.request.post(f"{server.base}/api/demo").body())["number"]
    page.open(f"/c/{number}/model")
    page.wait("vonkel.state && vonkel.plate.mesh")
    page.page.keyboard.press("/")
    page.page.get_by_label("Find an action").last.fill("biped plan")
    page.page.keyboard.press("Enter")
    page.wait("vonkel.state.joints.length > 20")
    page.page.keyboard.press("?")
    page.page.get_by_text("Keys at model").wait_for()
    page.click("Close")
    page.wait("!document.querySelector('#keys').classList.contains('show') && document.getElementById('job').hidden")
    page.page.locator("#ledger-open").click()
    page.wait("document.getElementById('ledger').classList.contains('show')")
    page.page.get_by_label("Milestone name").fill("laid")
    page.click("Set milestone")
    page.page.get_by_role("button", name="◆ laid").wait_for()
    page.page.locator("#ledger li", has_text="Called the character Lutra").get_by_role("button", name="go").click()
    page.wait("vonkel.state.joints.length === 0")
    page.page.get_by_role("button", name="◆ laid").click()
    page.wait("vonkel.state.joints.length > 20")
    page.page.keyboard.press("Escape")
    # Another tab changes the character: this one's step is refused in words, then sees what is there.
    page.page.request.post(
        f"{server.base}/api/c/{number}/steps", data={"step": "model.resize", "params": {"metres": 1.5}}
    )
    page.station("joints")
    page.page.locator("[data-joint=head]").click()
    page.page.locator("#stage").focus()
    page.page.keyboard.press("ArrowUp")
    page.page.get_by_text("changed in another tab").wait_for()
    page.wait("Math.abs(vonkel.state.height - 1.5) < 1e-6")
    before = page.state("joints.find(j => j.name === 'head').place[1]")
    page.page.locator("#stage").focus()
    page.page.keyboard.press("ArrowUp")
    page.wait(f"Math.abs(vonkel.state.joints.find(j => j.name === 'head').place[1] - {before} - 0.01) < 1e-6")


def test_a_shape_is_brought_in_by_hand(page, server, otter_mesh, tmp_path):
    number = json.loads(
        page.page.request.post(
            f"{server.base}/api/characters",
            multipart={
                "file": {"name": "o.obj", "mimeType": "text/plain", "buffer": (DATA / "otter.obj").read_bytes()}
            },
        ).body()
    )["number"]
    page.open(f"/c/{number}/shapes")
    page.wait("vonkel.state && vonkel.plate.mesh")
    page.page.locator("[data-open=shapes-bring]").click()
    page.page.get_by_label("Mesh of the shape").set_input_files(DATA / "otter-mouth-open.obj")
    page.page.get_by_label("Shape name").fill("open")
    page.click("Add the shape")
    page.wait("vonkel.state.shapes.length === 1")


def test_the_shots_in_the_readme_are_there():
    readme = (ROOT / "README.md").read_text()
    shots = sorted(p.name for p in (ROOT / "docs/screenshots").glob("*.png"))
    assert 8 <= len(shots) < 20
    for name in shots:
        assert f"docs/screenshots/{name}" in readme, name
