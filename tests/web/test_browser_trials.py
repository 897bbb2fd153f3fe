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
