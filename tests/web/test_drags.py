"""Drags, as a hand does them: what is shown last is what is kept; a control's drag never moves the eye; rows fold."""

import json

import numpy as np
import pytest

from vonkel.core.rig import compile_rig
from vonkel.demo import DATA, READY, add_member
from vonkel.workshop import Workshop

# Answers come late, as on a loaded machine; their order stays.
LATE = "() => { const live = vonkel.live, take = live.take.bind(live); live.take = (data) => setTimeout(() => take(data), 200); }"
EYE = "vonkel.plate.camera.position.toArray()"


@pytest.fixture
def ready(page, server):
    """The finished otter at the Limbs station."""
    shop = Workshop(server.store)
    number = shop.bring_in(READY, (DATA / READY).read_bytes())
    page.open(f"/c/{number}/limbs")
    page.wait("vonkel.state && vonkel.plate.controlFrames && vonkel.kitKinds")
    page.laid_out()
    return shop, number


def frames(page):
    return np.array(page.js("Array.from(vonkel.plate.frames)")).reshape(-1, 3, 4)


def pull(page, start, by, steps=8):
    """A drag without waiting for anything."""
    mouse = page.page.mouse
    mouse.move(*start)
    mouse.down()
    mouse.move(start[0] + by[0], start[1] + by[1], steps=steps)
    mouse.up()


def test_what_is_shown_last_is_what_is_kept(page, ready):
    """With every answer 200 ms late the hand lets go before the last ones are in: they are waited for, and kept."""
    shop, number = ready
    page.js(LATE)
    pull(page, page.control_at("free", "hand_L"), (20, -90))
    page.answered()
    page.wait("vonkel.state.position.pose > 0")
    stored = shop.pose(number)[0]
    shown = frames(page)
    kept = compile_rig(shop.character(number)).evaluate(stored).joints
    assert np.abs(shown - kept).max() < 1e-5
    assert page.js("vonkel.values") == stored
    target = stored["hand_L"]
    assert np.linalg.norm([target.get(f"move {a}", 0.0) for a in "xyz"]) > 0.05  # and it is the whole way


def test_a_second_drag_builds_on_the_first_whose_answers_are_still_to_come(page, ready):
    shop, number = ready
    page.js(LATE.replace("200", "1500"))  # so late that the second drag is over before the first one's answers come
    left, right = page.control_at("free", "hand_L"), page.control_at("free", "hand_R")
    pull(page, left, (20, -60), steps=4)
    pull(page, right, (-20, -60), steps=4)
    page.answered()
    page.wait("Object.keys(vonkel.state.pose.values).length === 2")
    stored = shop.pose(number)[0]
    assert set(stored) == {"hand_L", "hand_R"}
    assert np.abs(frames(page) - compile_rig(shop.character(number)).evaluate(stored).joints).max() < 1e-5
    page.page.keyboard.press("Control+z")  # the second alone
    page.wait("Object.keys(vonkel.state.pose.values).join() === 'hand_L'")


def test_back_to_rest_is_not_undone_by_a_late_answer(page, ready):
    shop, number = ready
    page.js(LATE)
    mouse = page.page.mouse
    at = page.control_at("free", "hand_L")
    mouse.move(*at)
    mouse.down()
    mouse.move(at[0] + 20, at[1] - 60, steps=6)
    page.js("vonkel.toRest()")
    mouse.up()
    page.answered()
    page.js("vonkel.toRest()")
    page.answered()
    assert page.js("vonkel.values") == {}
    assert shop.pose(number)[0] == {}


def test_an_answer_lost_with_its_socket_is_asked_for_again(page, ready):
    shop, number = ready
    page.js("() => { const live = vonkel.live, send = live.socket.send.bind(live.socket); live.socket.send = (m) => { if (vonkel.live.lasts.length || m.includes('hand_L')) live.socket.close(); else send(m); }; }")  # fmt: skip
    pull(page, page.control_at("free", "hand_L"), (20, -60))
    page.answered()
    page.wait("vonkel.state.position.pose > 0")
    assert "hand_L" in shop.pose(number)[0]


def test_an_outline_that_only_leads_is_dragged_like_any_other(page, ready):
    """The digits: a drag curls them, shows by how much, and leaves the eye where it was."""
    shop, number = ready
    eye = page.js(EYE)
    at = page.control_at("free", "fingers_L")
    mouse = page.page.mouse
    mouse.move(*at)
    page.wait("vonkel.plate.tip")
    assert page.js("vonkel.plate.tip.text").startswith("L fingers · drag: curl")
    mouse.down()
    mouse.move(at[0] + 30, at[1] - 25, steps=6)
    page.wait("vonkel.values.fingers_L?.curl > 0.2 && vonkel.plate.tip")
    assert page.js("vonkel.plate.tip.text") == f"curl {page.js('vonkel.values.fingers_L.curl'):.2f}"
    field = page.page.locator("[data-keep='f-fingers_L curl']")
    assert float(field.input_value()) == pytest.approx(page.js("vonkel.values.fingers_L.curl"), abs=0.006)
    mouse.up()
    page.answered()
    assert page.js(EYE) == eye
    assert page.js("vonkel.plate.tip") is None
    stored = shop.pose(number)[0]["fingers_L"]
    assert 0.2 < stored["curl"] <= 1.0
    tip, rest = (np.array(p.joints[shop.character(number).joint_index["middle_end_L"], :, 3]) for p in (compile_rig(shop.character(number)).evaluate(v) for v in ({"fingers_L": stored}, {})))  # fmt: skip
    assert np.linalg.norm(tip - rest) > 0.005
    page.js("vonkel.selectControl('whole')")
    pull(page, page.control_at("free", "fingers_L"), (-150, 200))  # far the other way: held at its end
    page.answered()
    assert shop.pose(number)[0]["fingers_L"]["curl"] == -1.0
    assert page.js(EYE) == eye


def test_outlines_near_each_other_are_told_apart(page, ready):
    """Where two lie within a finger's breadth the smaller is meant, and the other is named; leading ones are dashed."""
    page.js("vonkel.plate.levels = null; vonkel.plate.draw()")
    pairs = page.js(
        """() => { const p = vonkel.plate, out = [];
        for (let i = 0; i < p.controls.length; i++) for (const v of p.controlLine(i)) { const [x, y] = p.project("free", v), at = p.controlsAt("free", x, y);
          if (at.length > 1) out.push({ first: p.controls[at[0]].name, all: at.map((k) => p.controls[k].name), tip: p.tipFor(at) }); }
        return out; }"""
    )  # fmt: skip
    assert len(pairs) > 5
    for found in pairs:
        assert "behind it" in found["tip"]
    kinds = page.js("Object.fromEntries(vonkel.plate.controls.map((c) => [c.name, vonkel.plate.dragKind(c).kind]))")
    assert kinds["fingers_L"] == "channel" and kinds["hand_L"] == "move" and kinds["chest turn"] in ("turn", "move")
    body, hips = (np.array(page.js(f"vonkel.plate.controlLine(vonkel.plate.controls.findIndex((c) => c.name === '{n}'))")) for n in ("body", "hips move"))  # fmt: skip
    assert abs(np.median(body[:, 1]) - np.median(hips[:, 1])) > 0.03  # round the waist, and round the hips


def test_a_finished_figure_says_in_one_line_what_to_do(page, ready):
    hint = page.page.locator("#hint")
    assert hint.is_visible()
    assert "Drag an outline" in hint.inner_text()
    page.drag(page.control_at("free", "hand_L"), (10, -40))
    assert not hint.is_visible()
    page.station("skin")
    page.station("limbs")
    assert not hint.is_visible()


def test_the_finished_member_stands_first_and_opens_where_it_can_be_dragged(page, server):
    number = add_member(Workshop(server.store), "beetle.obj")
    page.open("/")
    first = page.page.locator(".card-character").filter(has_text="Lutra, ready").first
    assert "ready to pose" in first.inner_text()
    assert first.locator("a").first.get_attribute("href").endswith("/limbs")
    bare = page.page.locator(f".card-character a[href^='/c/{number}/']").first
    assert bare.get_attribute("href") == f"/c/{number}/model"


def test_rows_of_the_hierarchy_fold(page, ready):
    page.station("joints")
    rows = page.page.locator(".rows.joints > li")
    few = rows.count()
    assert few < 45  # of 72
    assert page.page.locator("[data-joint=forearm_R]").count() == 0
    page.js("vonkel.selectJoint('forearm_R')")  # what is chosen on the plate comes into sight
    page.page.locator("[data-joint=forearm_R]").wait_for()
    page.click("Unfold all")
    assert rows.count() == 72
    page.page.locator("[data-fold=collar_L]").click()
    assert page.page.locator("[data-joint=hand_L]").count() == 0
    assert "+19" in page.page.locator("[data-joint=collar_L]").inner_text()
    page.page.locator("[data-joint=collar_L]").press("ArrowRight")  # by the keyboard too
    page.page.locator("[data-joint=hand_L]").wait_for()
    page.page.locator("[data-joint=collar_L]").press("ArrowLeft")
    assert page.page.locator("[data-joint=hand_L]").count() == 0
    page.page.get_by_placeholder("Filter 72 joints").fill("hand")
    page.page.locator("[data-joint=hand_L]").wait_for()  # a filter looks into what is folded


def test_sentences_say_the_side_and_no_raw_names(page, ready):
    shop, number = ready
    page.click("Links")
    page.js("vonkel.plate.selected = { joint: '', control: '' }; vonkel.look()")
    links = page.page.locator(".sheet.right .accordion-button").all_inner_texts()
    assert len(links) > 8
    assert len(set(links)) == len(links)
    page.click("Rules")
    rules = page.page.locator(".sheet.right .accordion-button").all_inner_texts()
    assert len(rules) > 2
    assert len(set(rules)) == len(rules)
    for station in ("limbs", "skin", "face", "handover"):
        page.station(station)
        text = page.js("document.body.innerText")
        assert not [w for w in text.split() if "_L" in w or "_R" in w], station
    page.js("vonkel.step('joints.move', {joint: 'forearm_L', place: vonkel.state.joints.find(j => j.name === 'forearm_L').place.map((v, i) => v + (i ? 0 : .004)), both_sides: true})")  # fmt: skip
    page.wait("vonkel.state.last.sentence.startsWith('Moved')")
    page.wait("document.getElementById('foot-right').innerText.includes('L forearm')")


def test_tools_and_switches_look_apart(page, ready):
    """A tool is one of several; a switch is on or off: it has a lamp, and is not dark when it is on."""
    page.station("joints")
    look = page.js(
        """() => Object.fromEntries([...document.querySelectorAll('#dock button')].map((b) => [b.innerText.trim(), { lamp: !!b.querySelector('i'), on: b.getAttribute('aria-pressed'), dark: getComputedStyle(b).backgroundColor }]))"""
    )  # fmt: skip
    assert look["Choose"]["on"] == "true" and not look["Choose"]["lamp"]
    assert look["Both sides"]["on"] == "true" and look["Both sides"]["lamp"]
    assert look["Choose"]["dark"] != look["Both sides"]["dark"]
    assert look["Try pivots"]["on"] is None


def test_a_plan_counts_for_itself_where_its_field_is_empty(page, ready):
    page.station("joints")
    page.page.locator("#dock").get_by_role("button", name="Plans").click()
    page.wait("vonkel.tool?.known")
    page.page.locator(".plans").get_by_role("button", name="biped").click()
    field = page.page.get_by_label("digits", exact=True)
    assert field.input_value() == "" and field.get_attribute("placeholder") == "as found"
    assert "−1" not in page.js("document.getElementById('right').innerText")
    assert "-1" not in page.js("document.getElementById('right').innerText")
    field.fill("3")
    page.page.keyboard.press("Tab")
    page.wait("vonkel.tool.options.digits === 3")
    page.page.get_by_label("digits", exact=True).fill("")
    page.page.keyboard.press("Tab")
    page.wait("vonkel.tool.options.digits === -1")


def test_a_body_of_one_joint_is_told_why_it_has_no_poses(page, server):
    shop = Workshop(server.store)
    from vonkel.demo import add_member

    number = add_member(shop, "larva.obj")
    for step, params in (("joints.add", {"name": "stone", "place": [0.0, 0.2, 0.0]}), ("skin.bind", {})):
        shop.apply(number, step, params)
    page.open(f"/c/{number}/trials")
    page.wait("vonkel.state && vonkel.strip.shown")
    page.page.locator("#strip").get_by_text("there is nothing to bend").wait_for()
    assert page.page.locator("#run-trials").count() == 0


def test_a_saved_pose_is_tried_beside_the_chains_own(page, server):
    shop = Workshop(server.store)
    from vonkel.demo import add_member

    number = add_member(shop, "larva.obj")
    for step, params in (("joints.lay_plan", {"plan": "chain"}), ("limbs.outfit", {}), ("skin.bind", {"smooth": 4})):
        shop.apply(number, step, params)
    page.open(f"/c/{number}/limbs")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.state.controls.length")
    control = page.js("vonkel.state.controls.find((c) => c.channels.some((k) => k.name === 'turn x')).name")
    page.js(f"vonkel.setChannel({json.dumps(control)}, 'turn x', 0.3, true)")
    page.answered()
    page.js("vonkel.step('poses.save', {name: 'reared up', values: vonkel.values})")
    page.wait("vonkel.state.poses.length === 1")
    page.station("trials")
    page.page.locator("#run-trials").click()
    page.wait("vonkel.strip.cards.length === 21")
    assert {"reared up", "curled", "coiled"} <= set(page.js("vonkel.strip.cards.map((c) => c.name)"))


def test_units_come_from_the_channel_not_from_its_name(page, server):
    """A fin's “twist” goes from −1 to 1: it is no angle."""
    shop = Workshop(server.store)
    from vonkel.demo import add_member

    number = add_member(shop, "seal.obj")
    for step, params in (("joints.lay_plan", {"plan": "finned"}), ("limbs.outfit", {})):
        shop.apply(number, step, params)
    page.open(f"/c/{number}/limbs")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.kitKinds")
    link = page.js("vonkel.state.rules.find((r) => r.kind === 'link' && r.lead.channel === 'twist')")
    assert link
    page.js(f"vonkel.selectControl({json.dumps(link['lead']['thing'][8:])})")
    page.click("Links")
    page.js(f"vonkel.ui.openLink = {json.dumps(link['name'])}; vonkel.look()")
    page.page.locator("svg.curve").first.wait_for()
    labels = page.js("[...document.querySelectorAll('svg.curve text')].map((t) => t.textContent)")
    assert "1" in " ".join(labels)
    across = [t for t in labels if t.replace("−", "-").lstrip("-")[:1].isdigit()]
    assert not any("57" in t for t in across), across  # one radian in degrees


def test_what_is_put_aside_is_out_of_reach_until_it_is_brought_back(page, ready):
    """A control that is faded (f) is no longer what the pointer picks there; what lies behind it, or nothing, is."""
    at = page.control_at("free", "hand_L")
    page.page.mouse.click(*at)
    page.wait("vonkel.plate.selected.control === 'hand_L'")
    page.page.keyboard.press("f")
    assert set(page.js("[...vonkel.plate.aside]")) == {"control:hand_L", "control:hand_R"}
    page.page.mouse.click(*at)
    page.answered()
    pick = "(([x, y]) => { const b = vonkel.plate.stage.getBoundingClientRect(); return vonkel.plate.controlsAt('free', x - b.left, y - b.top).map((i) => vonkel.plate.controls[i].name); })"
    assert "hand_L" not in page.js(pick, list(at))
    page.page.get_by_role("button", name="Bring back 2 faded").click()
    assert "hand_L" in page.js(pick, list(at))
    assert page.page.get_by_role("button", name="Bring back").count() == 0
