"""Limbs and controls by the mouse: kits put on, feet dragged, wings folded, limbs switched, fists recorded, rules and order."""

import json

import numpy as np
import pytest

from vonkel.demo import CAST, add_member
from vonkel.workshop import Workshop


@pytest.fixture
def rigged(page, server):
    """One of the cast with its plan, kits and skin, opened at the Limbs station; gives its number."""
    shop = Workshop(server.store)

    def bring(file, skin=True):
        number = add_member(shop, file)
        steps = [("joints.lay_plan", {"plan": CAST[file].plan}), ("limbs.outfit", {})]
        for step, params in steps + ([("skin.bind", {})] if skin else []):
            shop.apply(number, step, params)
        page.open(f"/c/{number}/limbs")
        page.wait("vonkel.state && vonkel.plate.mesh && vonkel.plate.controlFrames && vonkel.kitKinds")
        return number

    return bring


def place(page, joint):
    return np.array(page.js(f"vonkel.plate.jointPlace(vonkel.plate.index.get({json.dumps(joint)}))"))


def settled(page):
    """Wait until the last drag has been answered and kept."""
    page.answered()
    page.quiet()


def test_the_beetle_is_built_from_scratch_in_under_forty_acts(page, server):
    number = add_member(Workshop(server.store), "beetle.obj")
    page.open(f"/c/{number}/joints")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.shownStation")
    acts = 0

    def click(what, wait=None):
        nonlocal acts
        (page.click(what) if isinstance(what, str) else what.first.click())
        acts += 1
        if wait:
            page.wait(wait)
            page.quiet()

    locate = page.page.locator
    click("Choose a plan", "vonkel.tool?.known")
    click("many-legged")
    click("Lay the joints", "vonkel.state.joints.length > 30")
    click(locate(".path [data-station=limbs]"), "vonkel.kitKinds")
    click("Put on a kit (k)", "vonkel.tool?.name === 'kit'")

    def kit(kind, joint, kits):
        click(page.page.get_by_role("button", name=kind, exact=True))
        click(locate(f"[data-joint={joint}]"), "Object.keys(vonkel.tool.joints).length > 0")
        click("Put it on", f"vonkel.state.kits.length === {kits}")

    kit("body", "thorax", 1)
    kit("head", "head", 2)
    for i in (1, 2, 3):
        kit("leg", f"thigh_{i}_L", 2 + 2 * i)
    kit("stance", "thorax", 9)
    kit("chain", "feeler_1_L", 11)
    kit("turns", "abdomen_1", 12)
    kit("eyes", "eye_L", 13)
    click("Done", "!vonkel.tool")
    click(locate(".path [data-station=skin]"), "vonkel.shownStation === 'skin'")
    click("Bind", "vonkel.state.skin")
    assert acts < 40
    loose = page.js("vonkel.state.findings.filter(f => f.station === 'limbs' || f.level === 'must').map(f => f.title)")
    assert loose == []
    page.station("limbs")
    page.wait("vonkel.plate.controlFrames")
    body = place(page, "thorax")
    page.drag(page.control_at("free", "foot_L"), (40, -70))
    settled(page)
    assert np.linalg.norm(place(page, "thorax") - body) > 0.003  # the foot is dragged and the body leans


def test_a_dragged_foot_leans_the_body_and_the_other_feet_stay(page, rigged):
    rigged("beetle.obj")
    before = {n: place(page, n) for n in ("thorax", "foot_2_L", "foot_3_R", "foot_1_L")}
    page.drag(page.control_at("free", "foot 1_L"), (50, -80))
    settled(page)
    moved = {n: float(np.linalg.norm(place(page, n) - p)) for n, p in before.items()}
    assert moved["foot_1_L"] > 0.03 and moved["thorax"] > 0.003
    assert moved["foot_2_L"] < 1e-4 and moved["foot_3_R"] < 1e-4
    page.page.get_by_role("group", name="Sets of controls").get_by_role("button", name="body").click()  # hidden …
    assert not page.js("vonkel.plate.showsControl(vonkel.plate.controls.findIndex(c => c.name === 'body'))")
    page.page.get_by_role("group", name="Sets of controls").get_by_role("button", name="body").click()
    page.page.locator("#stage").press("b")
    page.wait("Object.keys(vonkel.values).length === 0")
    settled(page)
    assert np.linalg.norm(place(page, "thorax") - before["thorax"]) < 1e-6


def test_the_bats_wing_folds_with_one_slider(page, rigged):
    rigged("bat.obj")
    page.page.locator("[data-kit=wing_L] .accordion-button").click()
    page.page.locator("[data-control=wing_L]").click()
    tip = place(page, "wing_2_end_L")
    slider = page.page.get_by_role("slider", name="wing_L fold", exact=True)
    box = slider.bounding_box()
    page.page.mouse.click(box["x"] + box["width"] - 3, box["y"] + box["height"] / 2)
    settled(page)
    assert page.js("vonkel.values.wing_L.fold") > 0.9
    folded = place(page, "wing_2_end_L")
    assert abs(folded[0]) < 0.45 * abs(tip[0])  # the wing lies by the body
    page.click("L to R")
    page.wait("vonkel.values.wing_R")
    settled(page)
    right = place(page, "wing_2_end_R")
    assert right * [-1, 1, 1] == pytest.approx(folded, abs=1e-5)


def test_an_arm_is_switched_in_mid_pose_without_a_jump_and_spaces_too(page, rigged):
    rigged("otter.obj", skin=False)
    names = ("upper_arm_L", "forearm_L", "hand_L")
    page.drag(page.control_at("free", "hand_L"), (-40, -60))
    settled(page)
    before = [place(page, n) for n in names]
    page.page.locator("[data-kit=arm_L]").get_by_role("button", name="FK").click()
    page.wait("vonkel.values.hand_L.ik === 0")
    settled(page)
    assert np.abs(np.array([place(page, n) for n in names]) - before).max() < 1e-5
    page.page.locator("[data-kit=arm_L]").get_by_role("button", name="IK").click()
    page.wait("vonkel.values.hand_L.ik === 1")
    settled(page)
    assert np.abs(np.array([place(page, n) for n in names]) - before).max() < 1e-5
    page.click("in chest")
    page.wait("vonkel.values.hand_L['in chest'] === 1")
    settled(page)
    assert np.abs(place(page, "hand_L") - before[2]).max() < 1e-5
    page.page.locator("#stage").press("o")
    page.wait("vonkel.plate.selected.control === 'hand_R'")
    page.click("Swap sides")
    page.wait("vonkel.values.hand_R?.['in chest'] === 1")


def test_a_fist_is_made_by_recording(page, rigged):
    number = rigged("otter.obj", skin=False)
    page.js("vonkel.selectControl('fingers_L')")
    page.page.get_by_text("Limits and locks").click()
    page.page.get_by_label("New channel").fill("grab")
    page.click("Add, −1 to 1")
    page.wait("vonkel.state.controls.find(c => c.name === 'fingers_R').channels.some(k => k.name === 'grab')")
    page.click("Links")
    page.click("grab")
    field = page.page.get_by_label("fingers_L grab", exact=False).locator("visible=true").last
    page.page.locator("[data-keep='f-fingers_L grab']").fill("1")
    page.page.keyboard.press("Enter")
    settled(page)
    assert field is not None
    page.click("Fine controls")
    for digit in ("index", "middle", "ring"):
        for i in (1, 2, 3):
            page.js(f"vonkel.setChannel('{digit}_{i}_L turn', 'turn z', 1.2, false)")
    settled(page)
    posed = place(page, "middle_end_L")
    page.page.get_by_role("button", name="Record at 1.00").click()
    page.wait(
        "vonkel.state.rules.some(r => r.kind === 'link' && r.lead.channel === 'grab' && r.lead.thing === 'control:fingers_R')"
    )
    settled(page)
    assert page.js("Object.keys(vonkel.values)") == ["fingers_L"]  # what was posed by hand is the link's now
    assert place(page, "middle_end_L") == pytest.approx(posed, abs=1e-5)
    page.page.locator("[data-keep='f-fingers_L grab']").fill("0")
    page.page.keyboard.press("Enter")
    settled(page)
    assert np.linalg.norm(place(page, "middle_end_L") - posed) > 0.01
    # and its curve is shaped by dragging a key
    page.page.locator(".accordion-button", has_text="grab of L fingers").click()
    page.wait("document.querySelector('svg.curve .curve-key:not(.rest)')")
    key = page.page.locator("svg.curve .curve-key:not(.rest)").first
    box, before = key.bounding_box(), None
    while box != before:  # it moves until its sheet has unfolded
        page.page.wait_for_timeout(120)
        box, before = key.bounding_box(), box
    page.drag((box["x"] + 6, box["y"] + 6), (-40, 30))
    page.wait("vonkel.state.last.sentence.startsWith('Set a key')")
    page.quiet()
    link = json.loads(page.read(f"/api/c/{number}").text())["rules"]
    grab = next(
        r for r in link if r["kind"] == "link" and r["lead"]["channel"] == "grab" and r["lead"]["thing"].endswith("_L")
    )
    keys = [k["at"] for f in grab["followers"] for k in f["curve"]["keys"]]
    assert any(0.3 < a < 0.95 for a in keys)


def test_the_order_is_read_moved_and_lines_are_left_out(page, rigged):
    rigged("otter.obj", skin=False)
    page.drag(page.control_at("free", "hand_L"), (-40, -60))
    settled(page)
    raised = place(page, "hand_L")
    page.click("Order")
    page.wait("vonkel.ui.order.rows?.length > 100")
    page.js("vonkel.look()")
    group = page.page.locator(".order", has=page.page.locator(".accordion-button", has_text="arm")).first
    group.locator(".accordion-button").click()
    line = "upper_arm_L and forearm_L reach for hand_L"
    page.page.get_by_label(line, exact=True).uncheck()
    settled(page)
    assert np.linalg.norm(place(page, "hand_L") - raised) > 0.05  # without it the arm hangs at rest
    page.page.get_by_role("button", name="Switch all 1 on again").click()
    settled(page)
    assert place(page, "hand_L") == pytest.approx(raised, abs=1e-6)
    steps = page.state("steps")
    group.get_by_role("button", name="Later").click()
    page.wait(f"vonkel.state.steps === {steps + 1}")
    assert page.state("last.sentence") == "Moved arm_L down in the order of solving"


def test_a_tail_is_dragged_by_its_tip_springs_live_and_is_tried_in_motion(page, rigged):
    rigged("otter.obj", skin=False)
    page.click("Joints")
    tip = place(page, "tail_6")
    page.drag(page.joint_at("free", "tail_6"), (60, -40))
    settled(page)
    assert np.linalg.norm(place(page, "tail_6") - tip) > 0.03
    assert page.js("Object.keys(vonkel.values).every(k => /^tail_\\d turn$/.test(k))")
    page.js("vonkel.selectJoint('tail_1')")
    page.click("Rules")
    page.page.get_by_text("Let it spring").click()
    page.click("Spring")
    page.wait("vonkel.state.rules.some(r => r.kind === 'spring' && r.things.length === 6)")
    page.click("Control")
    page.page.get_by_text("Springs and swings in motion").click()
    page.click("Run live")
    page.wait("vonkel.running && vonkel.live.shown > 5")
    seen = [place(page, "tail_6")]
    page.js("vonkel.setChannel('tail_1 turn', 'turn y', 0.9, false)")
    for _ in range(12):
        page.page.wait_for_timeout(90)
        seen.append(place(page, "tail_6"))
    steps = np.linalg.norm(np.diff(seen, axis=0), axis=1)
    assert (steps > 1e-4).sum() >= 3  # it goes on swinging after the hand has stopped
    page.page.get_by_role("button", name="Stop", exact=True).first.click()
    page.wait("!vonkel.running")
    bar = page.page.get_by_label("Frame of the try")
    track = []
    for frame in (12, 40, 12):
        bar.fill(str(frame))
        page.wait(f"vonkel.motionFrame === {frame} && vonkel.live.idle")
        track.append(place(page, "tail_6"))
    assert np.abs(track[0] - track[1]).max() > 1e-3 and np.array_equal(
        track[0], track[2]
    )  # back gives the same picture


def test_rules_are_made_by_hand_and_refused_in_words(page, rigged):
    rigged("otter.obj", skin=False)
    page.js("vonkel.selectControl('tail 2')")
    page.click("Rules")
    page.page.get_by_text("Let it follow").click()
    page.page.get_by_label("What it follows").select_option("joint:head")
    page.page.get_by_role("button", name="Follow", exact=True).click()
    page.wait("vonkel.state.rules.some(r => r.kind === 'follow' && r.thing === 'control:tail 2')")
    assert page.page.get_by_text("tail 2 goes with head").count() == 1
    page.page.get_by_label("What it follows").select_option("joint:tail_6")
    page.page.get_by_role("button", name="Follow", exact=True).click()
    page.page.get_by_text("The rig goes in a circle").wait_for()
    assert len(page.troubles) == 1 and "422" in page.troubles.pop()
    page.js("vonkel.selectControl('ear_L turn')")
    page.page.get_by_text("Let it swing").click()
    page.page.get_by_label("What swings").select_option("turn z")
    page.page.get_by_role("button", name="Swing", exact=True).click()
    page.wait("vonkel.state.rules.find(r => r.kind === 'swing')?.swingers.length === 2")  # both ears on one rate


def test_an_angle_leads_by_recording_and_a_limb_is_made_from_its_end(page, rigged):
    rigged("otter.obj", skin=False)
    page.click("Joints")
    page.js("vonkel.selectJoint('forearm_L')")
    page.click("Links")
    page.click("its bend")
    page.js(
        "vonkel.setChannel('hand_L', 'ik', 0, false); vonkel.setChannel('forearm_L turn', 'turn z', 1.2, false); vonkel.setChannel('ear_L turn', 'turn y', 0.5, true)"
    )
    settled(page)
    page.page.get_by_text("To follow: L ear").wait_for()
    page.page.get_by_text(f"{np.degrees(1.2):.1f}°").first.wait_for()
    page.click("Record here")
    page.wait("vonkel.state.rules.filter(r => r.kind === 'link' && r.lead.kind === 'bend').length === 2")
    settled(page)
    assert "ear_L turn" not in page.js("Object.keys(vonkel.values)")
    page.js("vonkel.step('limbs.remove_kit', {kit: 'tail'})")
    page.wait("!vonkel.state.kits.some(k => k.name === 'tail')")
    page.page.locator("#stage").press("k")
    page.page.get_by_role("button", name="leg", exact=True).click()
    page.page.locator("[data-joint=tail_6]").click()
    page.page.get_by_label("bones", exact=True).fill("5")
    page.page.keyboard.press("Tab")
    page.click("bones up from the clicked joint")
    page.wait("vonkel.state.kits.some(k => k.kind === 'leg' && k.joints.middle.length === 4)")


def test_a_foots_points_are_dragged_and_its_partner_goes_along(page, rigged):
    rigged("otter.obj", skin=False)
    page.page.locator("[data-kit=foot_L] .accordion-button").click()
    page.page.locator("[data-kit=foot_L]").get_by_role("button", name="Its points").click()
    page.wait("vonkel.plate.landmarks.length === 5")
    page.page.wait_for_timeout(200)
    heel = page.js("vonkel.plate.landmarks.find(m => m.name === 'heel').place")
    page.drag(page.at("side", heel), (14, 0))
    page.wait("vonkel.state.last.sentence === 'Moved the heel of the kit foot_L'")
    left, right = (np.array(page.js(f"vonkel.state.kits.find(k => k.name === 'foot_{s}').places.heel")) for s in "LR")
    assert abs(left[2] - heel[2]) > 0.005 and left * [-1, 1, 1] == pytest.approx(right)
