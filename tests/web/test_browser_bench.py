"""Mesh and joints, worked on with the mouse: measures, loops, drawn chains, landmarks, names, pivots, whole characters."""

import io
import json
import zipfile

import numpy as np
import pytest

from tests.judging.posing import at_rest, posed
from vonkel.core.geometry.health import health
from vonkel.core.geometry.transform import UPRIGHT
from vonkel.core.handover import written
from vonkel.core.joints.inside import body_solid
from vonkel.workshop import Workshop


@pytest.fixture
def member(page):
    """Puts one of the cast on the shelf and opens it at a station; gives its number."""

    def bring(file, station):
        number = page.post(f"/api/demo?who={file}")["number"]
        page.open(f"/c/{number}/{station}")
        page.wait("vonkel.state && vonkel.plate.mesh && vonkel.shownStation")
        return number

    return bring


def joint(page, name):
    return page.js(f"vonkel.state.joints.find(j => j.name === {json.dumps(name)})")


def test_the_height_at_the_withers_is_set_to_84_centimetres(page, member):
    member("newt.obj", "model")
    page.click("Measure")
    page.click("height of a place")
    page.page.mouse.click(*page.at("side", [0.05, 0.765, 0.30]))
    page.wait("vonkel.tool.found")
    before = page.js("vonkel.tool.found.metres")
    assert 0.74 < before < 0.80
    page.page.get_by_label("what it must be, cm").fill("84")
    page.click("Scale everything to it")
    page.wait("Math.abs(vonkel.tool.found?.metres - 0.84) < 1e-9")  # measured again after the step
    assert page.state("height") == pytest.approx(1.2582 * 0.84 / before, rel=1e-3)
    assert "84 cm" in page.state("last.sentence")


def test_a_support_loop_is_slid_in_on_both_sides_and_undone_exactly(page, member, server):
    number = member("newt.obj", "model")
    shop = Workshop(server.store)
    old = shop.character(number)
    page.page.locator("#stage").press("e")  # the key of the tool
    assert page.js("vonkel.tool.name") == "loop"
    spot = page.at("side", [0.2, 0.22, 0.32])
    page.page.mouse.move(*spot)
    page.wait("vonkel.plate.wishes.length === 1")  # the loop to be shows under the hand
    page.page.mouse.click(*spot)
    page.wait("vonkel.tool.sure")
    edges, at = page.js("[vonkel.tool.found.edges, vonkel.tool.at]")
    page.page.get_by_label("where on the edge").fill("0.5")
    page.click("Slide it in")
    page.wait("vonkel.state.last.sentence.startsWith('Slid in an edge loop')")
    page.quiet()
    made = shop.character(number)
    grown = len(made.points) - len(old.points)  # where the ring crosses itself there is a point more
    assert min(abs(grown - edges), abs(grown - 2 * edges)) < 0.1 * edges and 0 < at < 1
    h = health(made)
    assert (h.border_edges, h.nonmanifold_edges) == (0, 0) and h.asymmetry < 1e-12
    page.js("vonkel.undo()")
    page.wait(f"vonkel.state.counts.points === {len(old.points)}")
    assert shop.character(number).key == old.key


def test_a_tail_is_drawn_in_the_side_view_and_lies_inside_in_front(page, member, server):
    number = member("otter.obj", "joints")
    page.page.locator("#stage").press("d")
    wanted = [[0, 0.37, -0.12], [0, 0.26, -0.26], [0, 0.17, -0.44], [0, 0.12, -0.62], [0, 0.12, -0.80]]
    for i, p in enumerate(wanted, 1):
        page.page.mouse.move(*page.at("side", p))
        page.page.mouse.click(*page.at("side", p))
        page.wait(f"vonkel.tool.places.length === {i}")
    page.page.get_by_label("Chain name").fill("tail")
    page.page.get_by_label("Chain name").press("Tab")
    page.page.locator("#stage").focus()
    page.page.keyboard.press("Enter")
    page.wait("vonkel.state.joints.length === 5")
    c = Workshop(server.store).character(number)
    assert [j.name for j in c.joints] == ["tail_1", "tail_2", "tail_3", "tail_4", "tail_end"]
    places = np.array([j.place for j in c.joints])
    assert np.allclose(places[:, 0], 0) and np.abs(places - wanted).max() < 0.01
    solid = body_solid(c)
    assert solid.contains(places[:4]).all()
    x = page.joint_at("front", "tail_3")[0]
    assert abs(x - page.at("front", [0, 0, 0])[0]) < 1.5  # on the middle of the front drawing
    # Branch from it: the next chain begins on a joint.
    page.page.mouse.click(*page.joint_at("side", "tail_2"))
    page.wait("vonkel.tool.parent === 'tail_2'")
    page.page.mouse.click(*page.at("side", [0, 0.30, -0.20]))
    page.wait("vonkel.tool.places.length === 1")
    page.click("Finish (Enter)")
    page.wait("vonkel.state.joints.length === 6")
    assert joint(page, page.state("joints.at(-1).name"))["parent"] == "tail_2"


def test_landmarks_are_put_right_before_the_joints_are_laid(page, member):
    member("otter.obj", "joints")
    page.click("Choose a plan")
    page.page.locator(".plans").get_by_role("button", name="biped").click()
    page.page.get_by_label("tail joints").fill("4")
    page.page.get_by_label("tail joints").press("Tab")
    page.click("Find landmarks")
    page.wait("vonkel.plate.landmarks.length > 8", 90)
    mark = "vonkel.plate.landmarks.find(m => m.name === 'hand_L')"
    start = page.js(f"{mark}.place")
    page.drag(page.at("side", start), (0, -8))  # hands hang free in the side view
    page.wait(f"{mark}.moved")
    to = page.js(f"{mark}.place")
    assert to[1] > start[1] + 0.008 and to[0] == pytest.approx(start[0])
    page.click("Lay the joints")
    page.wait("vonkel.state.joints.length > 20", 90)
    left, right = joint(page, "hand_L")["place"], joint(page, "hand_R")["place"]
    assert np.linalg.norm(np.subtract(left, to)) < 0.02  # there, or where the body is nearest to there
    assert left[1] > start[1] + 0.005 and right == pytest.approx([-left[0], left[1], left[2]], abs=1e-6)
    assert page.js("vonkel.state.joints.filter(j => /^tail_\\d$/.test(j.name)).length") == 4
    assert page.js("vonkel.plate.landmarks.length") == 0


def test_a_model_whose_z_is_up_is_stood_up_from_the_plans(page, tmp_path):
    mesh = at_rest("runner", 20261550)[0]
    file = tmp_path / "lying.obj"
    file.write_bytes(written(mesh.with_(arrays={"points": mesh.points @ UPRIGHT["z"]}), ".obj"))
    page.take_in(file, "Lying")
    page.station("joints")
    page.click("Choose a plan")
    page.page.locator(".proposed", has_text="with Z up it reads better, as a biped").wait_for()
    page.click("Let Z be up")
    page.wait("vonkel.tool.proposed && !vonkel.tool.proposed.lying")
    assert page.state("height") == pytest.approx(mesh.height, rel=1e-4)
    assert page.page.locator(".proposed").inner_text().startswith("This looks like a biped: ")


def test_a_turned_posed_figure_is_proposed_marked_and_put_right_by_mouse(page, member):
    """A stranger's mesh: the page says what it is and how it stands, rings what it doubts, and follows two landmarks."""
    body = posed("imp", 5, 1.0, "parts")
    page.open(f"/c/{page.bring_in('imp.obj', as_obj(body.mesh))}/joints")
    page.wait("vonkel.state && vonkel.plate.mesh")
    page.click("Choose a plan")
    page.page.locator(".proposed", has_text="This looks like a biped: two arms, two legs and a tail").wait_for(
        timeout=60_000
    )
    assert page.js("vonkel.tool.plan") == "biped"
    page.click("Find landmarks")
    page.wait("vonkel.plate.landmarks.length > 20 && !vonkel.tool.busy", 90)
    doubtful = page.js("vonkel.plate.landmarks.filter(m => m.sure !== 'sure').map(m => m.name)")
    assert doubtful and page.page.locator(".doubt").count() > 0
    assert page.page.get_by_text("It stands turned by").count() or page.page.get_by_text("It faces").count()
    labels = page.js("vonkel.plate.landmarks.map(m => m.label)")
    assert "left elbow" in labels and "right elbow" in labels
    for name in ("hand_R", "head_end"):
        mark = f"vonkel.plate.landmarks.find(m => m.name === '{name}')"
        start = page.js(f"{mark}.place")
        page.drag(page.at("side", start), (9, -7))
        page.wait(f"{mark}.moved && !vonkel.tool.busy && !vonkel.tool.following", 60)
        to = page.js(f"{mark}.place")
        assert np.linalg.norm(np.subtract(to, start)) > 0.01
    before = page.js("vonkel.plate.landmarks.filter(m => m.moved).map(m => m.name)")
    assert sorted(before) == ["hand_R", "head_end"]  # the rest followed and was not taken for put right
    hand = page.js("vonkel.plate.landmarks.find(m => m.name === 'hand_R').place")
    page.click("Lay the joints")
    page.wait("vonkel.state.joints.length > 20 || document.querySelector('.toast-bad')", 90)
    assert page.page.locator(".toast-bad").count() == 0, page.page.locator(".toast-bad").all_inner_texts()
    assert np.linalg.norm(np.subtract(joint(page, "hand_R")["place"], hand)) < 0.03
    assert joint(page, "hand_R")["doubt"] == 0
    left = np.array(joint(page, "forearm_L")["place"])
    assert np.linalg.norm(left * [-1, 1, 1] - joint(page, "forearm_R")["place"]) > 0.05  # each side on its own
    page.quiet()


def as_obj(c):
    """The mesh as a file that somebody might bring in."""
    starts, corners = c.arrays["face_starts"], c.arrays["face_corners"]
    lines = [f"v {x:.5f} {y:.5f} {z:.5f}" for x, y, z in c.points]
    faces = (corners[a:b] + 1 for a, b in zip(starts[:-1], starts[1:], strict=True))
    return "\n".join([*lines, *("f " + " ".join(map(str, f)) for f in faces)]).encode()


def test_joints_are_renamed_mirrored_reoriented_hung_and_tried(page, member):
    number = member("otter.obj", "joints")
    page.js("vonkel.step('joints.lay_plan', {plan: 'biped'})")
    page.wait("vonkel.state.joints.length > 20", 90)
    page.js("vonkel.selectJoint('index_1_L')")
    page.page.get_by_label("Joint name").fill("index_1_L")
    page.page.get_by_label("Joint name").press("Enter")
    page.wait("vonkel.state.joints.some(j => j.name === 'index_1_R')")
    # A finger turned the wrong way is found, and mended in one action.
    page.click("Turn")
    page.js("vonkel.selectJoint('ring_1_L')")
    page.click("and all below")
    page.page.get_by_label("what the hinge follows").select_option("keep")
    page.click("Turn the hinge round")
    page.wait("vonkel.state.findings.some(f => f.title.includes('curl against'))")
    page.click("Make them curl alike")
    page.wait("!vonkel.state.findings.some(f => f.title.includes('curl against'))")
    # Mirroring sets the other side anew.
    page.js("vonkel.step('joints.move', {joint: 'forearm_L', place: [0.29, 0.60, -0.03], both_sides: false})")
    page.wait(
        "Math.abs(vonkel.state.joints.find(j => j.name === 'forearm_R').place[2] + 0.03) > 1e-6 && vonkel.state.last.sentence.includes('forearm_L')"
    )
    page.js("vonkel.selectJoint('forearm_L')")
    page.click("Place")
    page.click("Mirror")
    page.wait("vonkel.state.last.sentence.startsWith('Mirrored')")
    left, right = joint(page, "forearm_L")["place"], joint(page, "forearm_R")["place"]
    assert right == pytest.approx([-left[0], left[1], left[2]])
    # A name dropped on another hangs there.
    source, target = (page.page.locator(f"[data-joint={n}]") for n in ("ear_L", "neck"))
    source.drag_to(target)
    page.wait("vonkel.state.joints.find(j => j.name === 'ear_L').parent === 'neck'")
    # Pivots, side by side.
    page.js("vonkel.selectJoint('upper_arm_L')")
    page.click("Try pivots")
    page.wait("document.getElementById('pivots').classList.contains('show')", 90)
    assert page.page.locator(".try").count() >= 4 and page.page.locator(".try img").count() >= 4
    page.page.locator(".try").get_by_role("button", name="Take this place").first.click()
    page.wait("vonkel.state.last.sentence.startsWith('Moved upper_arm_L')")
    page.click("Freedom")
    page.click("Normal ranges of people")
    page.wait("vonkel.state.joints.find(j => j.name === 'forearm_L').freedom !== null")
    page.page.get_by_label("high limit about z, degrees").fill("120")
    page.page.get_by_label("high limit about z, degrees").press("Tab")
    page.wait(
        "Math.abs(vonkel.state.joints.find(j => j.name === 'upper_arm_L').freedom.high[2] - 2 * Math.PI / 3) < 1e-9"
    )
    assert page.read(f"/api/c/{number}/gimbal/upper_arm_L").json().keys() >= {"xyz", "zyx"}


def test_a_pose_becomes_the_rest(page, member):
    member("larva.obj", "joints")
    page.js("vonkel.step('joints.lay_plan', {plan: 'chain'})")
    page.wait("vonkel.state.joints.length > 8", 60)
    page.js("vonkel.step('limbs.outfit', {})")
    page.wait("vonkel.state.kits.length > 0", 60)
    page.js("vonkel.step('skin.bind', {})")
    page.wait("vonkel.state.skin", 90)
    page.station("limbs")
    page.js("vonkel.setChannel('chain_6 turn', 'turn z', 0.5, true)")
    page.wait("Object.keys(vonkel.state.pose.values).length === 1 && vonkel.live.idle")
    tip = "vonkel.plate.jointPlace(vonkel.plate.index.get('chain_end'))"
    before = page.js(tip)
    page.click("Take as the new rest")
    page.wait("vonkel.state.last.sentence.startsWith('Took the pose')")
    page.wait("Object.keys(vonkel.values).length === 0")
    assert joint(page, "chain_end")["place"] == pytest.approx(before, abs=1e-5)


def test_an_untidy_mesh_is_mended_finding_by_finding(page, member):
    member("cracked.obj", "model")
    for _ in range(9):
        mends = page.page.locator(".finding .btn-primary")
        if not mends.count():
            break
        steps = page.state("steps")
        mends.first.click()
        page.wait(f"vonkel.state.steps > {steps}")
        page.quiet()
    titles = page.js("vonkel.state.findings.filter(f => f.station === 'model').map(f => f.title)")
    assert titles == ["6 edges lie on an open border"]  # the hole: what to put there is the rigger's choice
    page.page.locator(".finding").get_by_role("button", name="Show").click()
    page.wait("vonkel.plate.marked.length === 6")
    page.click("Mouth bag")
    spot = page.js(
        "(() => { const p = vonkel.plate.points, i = vonkel.plate.marked[0]; return [p[3*i], p[3*i+1] + 0.02, p[3*i+2]]; })()"
    )
    page.page.mouse.click(*page.at("front", spot))
    page.wait("vonkel.tool.found?.count === 6")
    page.click("Grow the bag")
    page.wait("vonkel.state.findings.every(f => f.station !== 'model' || !f.title.includes('border'))")


def test_parts_are_locked_shaded_split_and_pictures_lie_under_the_drawing(page, member, tmp_path):
    from PIL import Image

    member("bat.obj", "model")
    page.page.locator("[data-keep='part-membrane']").click()
    page.click("Lock")
    page.wait("vonkel.state.parts.find(p => p.name === 'membrane').locked")
    hit = "vonkel.plate.spot('front', ...vonkel.plate.project('front', [0.24, 0.30, 0]).slice(0, 2)).hit"
    assert page.js(hit) is None  # a click can't grab it
    page.click("hard edges")
    page.wait("vonkel.state.parts.find(p => p.name === 'membrane').shading === 'hard'")
    page.wait("vonkel.plate.drawn.corners")
    assert page.js("vonkel.plate.drawn.corners.points.length") > page.js("vonkel.plate.points.length / 3")
    page.click("Split by island")
    page.wait("vonkel.state.parts.length === 8")
    Image.new("RGB", (40, 60), (200, 180, 140)).save(tmp_path / "sheet.png")
    page.page.locator("[data-keep='part-membrane']").click()
    page.page.get_by_label("Lay one under").set_input_files(tmp_path / "sheet.png")
    page.wait("vonkel.state.pictures.length === 1 && [...vonkel.plate.pictureFiles.values()][0].complete")
    q = page.state("pictures[0]")
    assert q["view"] == "front" and q["width"] == pytest.approx(page.state("height") * 40 / 60, rel=1e-6)
    page.click("checker")
    assert page.js("vonkel.plate.material.uniforms.mode.value") == 4


def test_states_side_by_side_and_whole_characters_on_the_shelf(page, member, tmp_path):
    number = member("seal.obj", "joints")
    page.click("Ledger · 2") if page.page.get_by_role("button", name="Ledger · 2").count() else page.page.locator(
        "#ledger-open"
    ).click()
    page.page.get_by_label("Milestone name").fill("bare")
    page.click("Set milestone")
    page.page.locator("#ledger").get_by_role("button", name="Close").click()
    page.js("vonkel.step('joints.lay_plan', {plan: 'finned'})")
    page.wait("vonkel.state.joints.length > 10", 60)
    page.page.locator("#ledger-open").click()
    page.click("compare")
    page.wait(
        "document.getElementById('compare').classList.contains('show') && [...document.querySelectorAll('#compare img')].every(i => i.complete && i.naturalWidth)"
    )
    said = page.page.locator("#compare").inner_text()
    assert "joints new" in said and "bare" in said
    whole = page.read(f"/api/c/{number}/export.vonkel").body()
    with zipfile.ZipFile(io.BytesIO(whole)) as z:
        assert json.loads(z.read("character.json"))["milestones"][0]["name"] == "bare"
    path = tmp_path / "Sedge.vonkel"
    path.write_bytes(whole)
    page.open("/")
    page.page.locator("input[type=file]").set_input_files(path)
    page.click("Bring in")
    page.wait("window.vonkel?.state?.joints.length > 10", 60)
    assert page.state("name") == "Sedge" and page.state("steps") == 3
    page.open("/")
    count = page.page.locator(".card-character").count()
    page.page.locator(f"[data-duplicate='{number}']").click()
    page.wait(f"document.querySelectorAll('.card-character').length === {count + 1}")
    page.page.locator(f"[data-archive='{number}']").click()
    page.wait(f"document.querySelectorAll('.card-character').length === {count}")
    page.page.get_by_text("Put away", exact=True).last.click()
    assert page.page.get_by_text("Sedge", exact=True).last.is_visible()


def test_an_arm_is_switched_between_ik_and_fk_in_the_middle_of_a_pose(page, member):
    member("otter.obj", "joints")
    for step, params, done in (
        ("joints.lay_plan", {"plan": "biped"}, "joints.length > 20"),
        ("limbs.outfit", {}, "kits.length > 5"),
        ("skin.bind", {}, "skin"),
    ):
        page.js(f"vonkel.step('{step}', {json.dumps(params)})")
        page.wait(f"vonkel.state.{done} && document.getElementById('job').hidden", 90)
    page.station("limbs")
    page.wait("vonkel.plate.controlFrames")
    page.js("vonkel.setChannel('hand_L', 'move y', 0.12, true)")
    page.wait("Object.keys(vonkel.state.pose.values).length === 1 && vonkel.live.idle")
    points = "Array.from(vonkel.plate.points)"
    before = np.array(page.js(points))
    page.js("vonkel.selectControl('hand_L')")
    page.page.locator(".kit:has(.collapse.show)").get_by_role("button", name="FK").click()
    page.wait("vonkel.state.pose.label.endsWith('led by FK') && vonkel.live.idle && vonkel.values.hand_L.ik === 0")
    after = np.array(page.js(points))
    assert np.abs(after - before).max() < 1e-5  # every point of the skin
    page.js("vonkel.setChannel('forearm_L turn', 'turn z', vonkel.values['forearm_L turn']['turn z'] + 0.3, true)")
    page.wait("vonkel.state.pose.label.includes('forearm_L turn') && vonkel.live.idle")
    bent = np.array(page.js(points))
    assert np.abs(bent - after).max() > 0.02
    page.page.locator(".kit:has(.collapse.show)").get_by_role("button", name="IK").click()
    page.wait("vonkel.state.pose.label.endsWith('led by IK') && vonkel.live.idle && vonkel.values.hand_L.ik === 1")
    assert np.abs(np.array(page.js(points)) - bent).max() < 2e-3
