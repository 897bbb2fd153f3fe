"""Binding and trying in the browser: a wing folds, a head turns, and the plate says which skin it shows."""

import numpy as np
import pytest

from vonkel.demo import CAST, add_member
from vonkel.workshop import Workshop


@pytest.fixture
def bound_by_hand(page, server):
    """One of the cast with its joints, bound at the Skin station by the button, then tried; gives the cards by name."""

    def bring(file):
        shop = Workshop(server.store)
        number = add_member(shop, file)
        shop.apply(number, "joints.lay_plan", {"plan": CAST[file].plan})
        page.open(f"/c/{number}/skin")
        page.wait("vonkel.state && vonkel.plate.mesh && vonkel.state.joints.length > 3")
        page.click("Bind")
        page.wait("vonkel.state.skin && vonkel.state.skin.joints.length > 3")
        page.station("trials")
        page.page.locator("#run-trials").click()
        page.wait("vonkel.strip.cards.length >= 4 && vonkel.strip.fresh")
        return {
            c["name"]: c for c in page.js("vonkel.strip.cards.map(({name, grade, worst}) => ({name, grade, worst}))")
        }

    return bring


def points(page):
    page.wait("vonkel.live.idle && !vonkel.plate.pending")
    return np.array(page.js("Array.from(vonkel.plate.points)")).reshape(-1, 3)


def choose(page, name):
    page.page.locator(".pose-card", has_text=name).first.click()
    page.wait(f"vonkel.trial === '{name}' && vonkel.live.idle")
    page.wait("vonkel.plate.mesh.geometry.attributes.value.array.some(v => v > 0.05)")


def test_the_bat_is_bound_and_folds_its_wings(page, bound_by_hand):
    cards = bound_by_hand("bat.obj")
    assert {"wings folded", "wings half folded", "wings raised"} <= set(cards)
    assert "D" not in {c["grade"] for c in cards.values()}, cards
    rest = points(page)
    choose(page, "wings folded")
    folded = points(page)
    assert np.ptp(folded[:, 0]) < 0.8 * np.ptp(rest[:, 0])  # narrower by a fifth at least
    assert page.page.get_by_text("as handed over: linear skin").is_visible()


def test_the_beetle_turns_its_head_and_the_plate_says_which_skin_it_shows(page, bound_by_hand):
    cards = bound_by_hand("beetle.obj")
    assert set(c["grade"] for c in cards.values()) <= {"A", "B"}, cards
    choose(page, "head aside")
    over = points(page)
    page.click("Handed over")
    page.wait("!vonkel.over && vonkel.live.idle")
    assert page.page.get_by_text("live: dual quaternion skin").is_visible()
    live = points(page)
    gap = np.linalg.norm(over - live, axis=1).max()
    said = page.js("vonkel.strip.chosen().live_to_linear_m")
    assert gap == pytest.approx(said, rel=0.02) and gap > 1e-3
    page.station("skin")
    assert page.page.get_by_text("live: dual quaternion skin").is_visible()
    page.page.locator("[data-open=skin-deform]").click()
    page.page.get_by_role("button", name="Linear", exact=True).click()
    page.wait("vonkel.state.skin.method === 'linear'")
    assert page.page.get_by_text("linear skin, live and handed over").is_visible()


def test_every_joint_is_turned_and_a_click_on_the_curve_goes_to_its_angle(page, bound_by_hand):
    bound_by_hand("beetle.obj")
    page.click("Turn every joint, too")
    page.wait("vonkel.strip.cards.some((c) => c.sweep) && !vonkel.job", 90)
    page.page.locator('[data-pose^="shin_1_L bends"]').first.click()
    page.wait("vonkel.trial.startsWith('shin_1_L bends') && vonkel.live.idle")
    curve = page.page.locator("svg.plot")
    curve.scroll_into_view_if_needed()
    box = curve.bounding_box()
    rest = np.array(page.js("Array.from(vonkel.plate.rest)")).reshape(-1, 3)
    names = page.js("vonkel.strip.chosen().sweep.names")
    page.page.mouse.click(box["x"] + box["width"] * 0.16, box["y"] + 40)
    page.wait(f"vonkel.trial === '{names[0]}'")
    assert np.abs(points(page) - rest).max() > 0.01
    curve.focus()
    page.page.keyboard.press("ArrowRight")
    page.wait(f"vonkel.trial === '{names[1]}'")
    assert np.abs(points(page) - rest).max() > 0.005
    page.page.select_option('select[aria-label="What the curve shows"]', "longest_edge")
    assert page.page.locator(".plot-limit").count() == 1
    place = page.page.locator(".places button").first
    place.click()
    page.wait("vonkel.plate.numbered === vonkel.plate.marked && vonkel.plate.marked.length > 0")
    assert not page.troubles


def test_a_tear_on_the_beetle_is_gone_to_smoothed_and_the_grade_rises(page, server):
    """Run the trials, go to the worst place, smooth it with the brush, and see the card's grade rise; then both states side by side."""
    shop = Workshop(server.store)
    number = add_member(shop, "beetle.obj")
    for step, params in (("joints.lay_plan", {"plan": "many-legged"}), ("skin.bind", {})):
        shop.apply(number, step, params)
    c = shop.character(number)
    up = c.points[:, 1] > np.quantile(c.points[:, 1], 0.8)
    back = np.flatnonzero(up & (np.abs(c.points[:, 0]) < 0.06) & (c.points[:, 2] < np.median(c.points[:, 2])))
    slip = back[np.linalg.norm(c.points[back] - c.points[back[0]], axis=1) < 0.08]
    shop.apply(number, "skin.hold", {"points": slip.tolist(), "joint": "head", "weight": 0.09})
    page.open(f"/c/{number}/trials")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.strip.shown")
    page.js("vonkel.strip.run(false)")
    page.wait("vonkel.strip.cards.length > 15 && vonkel.strip.fresh")
    worst = page.js("vonkel.strip.cards[0].name")
    assert page.js("vonkel.strip.cards[0].grade") in ("C", "D")
    page.page.locator(".pose-card").first.click()
    page.wait(f"vonkel.trial === '{worst}' && vonkel.live.idle")
    page.page.locator(".places button").first.click()
    page.wait("vonkel.plate.numbered?.length > 0 && !vonkel.plate.pending")
    spot = page.js("vonkel.plate.numbered[0]")
    assert np.linalg.norm(c.points[spot] - c.points[slip], axis=1).min() < 0.06  # it is where the slip was made
    page.click("Who holds it")
    page.wait("vonkel.shownStation === 'skin'")
    page.laid_out()
    page.js(
        "vonkel.useTool('brush'); vonkel.tool.take('even'); vonkel.tool.size = 0.12; vonkel.tool.strength = 1; vonkel.tool.changed()"
    )
    page.wait("vonkel.tool?.kind === 'even' && vonkel.live.idle && !vonkel.plate.pending")
    before = page.state("position.step")
    for point in [spot, *slip[:: max(len(slip) // 9, 1)]]:
        x, y = page.at("free", page.js(f"vonkel.plate.pointPlace({int(point)})"))
        page.page.mouse.move(x - 4, y)
        page.page.mouse.down()
        page.page.mouse.move(x + 6, y + 2, steps=4)
        page.page.mouse.up()
        page.wait("!vonkel.tool.now && !vonkel.live.stroke")
        page.js("Promise.resolve(vonkel.tool.strokes?.last).then(() => vonkel.queue ?? null).then(() => true)")
    page.js("vonkel.strip.follow()")
    page.wait(f"vonkel.strip.now.get('{worst}')?.grade < vonkel.strip.cards.find((c) => c.name === '{worst}').grade")
    page.page.keyboard.press("Escape")
    # both states, card by card
    page.station("trials")
    page.page.get_by_text("Compare two states").click()
    page.wait("vonkel.ui.compareStates?.length > 3")
    page.page.get_by_label("The state before").select_option(str(before))
    page.click("Card by card")
    page.page.locator(f"[data-compared='{worst}'].better").wait_for(timeout=60_000)
    assert page.page.locator(".compared-side img").count() >= 40
    assert not page.troubles


def test_limits_heat_and_poses_of_one_s_own(page, server, tmp_path):
    shop = Workshop(server.store)
    number = add_member(shop, "larva.obj")
    for step, params in (
        ("joints.lay_plan", {"plan": "chain"}), ("limbs.outfit", {}), ("skin.bind", {}),
    ):  # fmt: skip
        shop.apply(number, step, params)
    control = next(
        k.name
        for k in shop.character(number).controls
        if any(x.name == "turn y" for x in k.channels) and k.name != "whole"
    )
    for name, angle in (("left", 0.7), ("right", -0.7)):
        shop.apply(number, "poses.save", {"name": name, "values": {control: {"turn y": angle}}})
    page.open(f"/c/{number}/trials")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.strip.shown")
    page.page.get_by_text("Poses of your own").click()
    page.click("Blend")
    page.wait("vonkel.state.poses.includes('left and right')")
    with page.page.expect_download() as got:
        page.page.get_by_role("link", name="As a file").click()
    path = tmp_path / "poses.json"
    got.value.save_as(path)
    page.page.locator(".own-poses").get_by_role("button", name="Delete").first.click()
    page.wait("!vonkel.state.poses.includes('left')")
    page.page.get_by_label("Poses file").set_input_files(path)
    page.wait("vonkel.state.poses.includes('left')")
    page.page.locator("#run-trials").click()
    page.wait("vonkel.strip.cards.length > 20 && vonkel.strip.fresh")
    page.page.locator(".pose-card", has_text="curled").first.click()
    page.wait("vonkel.trial === 'curled' && vonkel.live.idle")
    page.page.get_by_label("What the heat shows").select_option("rough")
    page.wait("vonkel.legend?.title === 'rough' && vonkel.live.idle")
    page.wait("vonkel.plate.mesh.geometry.attributes.value.array.some(v => v > 0.3)")
    page.page.get_by_text("What passes", exact=True).last.click()
    field = page.page.get_by_label("What passes: roughness in motion")
    field.fill("9")
    field.press("Enter")
    page.wait("vonkel.state.last.sentence.startsWith('Set what passes')")
    was = page.js("vonkel.strip.cards.find((c) => c.name === 'curled').badness")
    page.page.locator("#run-trials").click()
    page.wait(f"vonkel.strip.fresh && vonkel.strip.cards.find((c) => c.name === 'curled').badness < {was}")
    assert shop.character(number).limits == {"rough": 9.0}
    assert not page.troubles
