"""Shapes in the browser, with the mouse: expressions sculpted, split and boarded, a corrective, a target that doesn't fit."""

from itertools import product

import numpy as np
import pytest

from vonkel.core.shapes import moves_of
from vonkel.core.shapes.edits import mirror_image
from vonkel.workshop import Workshop

from .test_browser_skin import settled

# Each expression: its region, where the hand takes hold (from the head's joint, metres), where it goes (pixels), both sides.
EXPRESSIONS = {
    "brows up": ("brows", (0.06, 0.22, 0.13), (0, -26), True),
    "brows down": ("brows", (0.06, 0.22, 0.13), (-8, 20), True),
    "wide": ("eyes", (0.105, 0.17, 0.12), (4, -16), True),
    "squint": ("eyes", (0.08, 0.11, 0.15), (0, -14), True),
    "smile": ("mouth", (0.08, 0.03, 0.18), (18, -18), True),
    "frown": ("mouth", (0.08, 0.03, 0.18), (6, 22), True),
    "pout": ("mouth", (0.02, 0.0, 0.22), (-8, 6), True),
    "sneer": ("mouth", (0.06, 0.05, 0.2), (4, -24), False),
}


@pytest.fixture
def bench(page, server, otter):
    """Lutra, rigged and bound, without any shape, at the Shapes station; gives the shop and her number."""
    shop = Workshop(server.store)
    bare = otter.with_(shapes=(), arrays=dict.fromkeys(n for n in otter.arrays if n.startswith("shape/")))
    number = shop.add(bare, {}, "Brought in Lutra")
    page.open(f"/c/{number}/shapes")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.state.skin && vonkel.strip.shown")
    page.laid_out()
    return shop, number


def face(page, far=0.85):
    """Look at the face from ahead."""
    head = page.js("vonkel.state.joints.find((j) => j.role === 'head').place")
    page.js(
        """([[x, y, z], far]) => { const p = vonkel.plate; p.lookAt([x, y + 0.11, z + 0.1]);
        p.camera.position.set(x, y + 0.11, z + far); p.orbit.update(); p.draw(); }""", [head, far],
    )  # fmt: skip
    page.wait("!vonkel.plate.pending")
    return np.array(head)


def on_skin(page, place):
    """Where on the screen a place is seen."""
    return page.at("free", [float(v) for v in place])


def begin(page, name, region):
    page.js("(name) => { vonkel.ui.region = name; }", region)
    field = page.page.get_by_label("Name of the new shape")
    field.fill(name)
    field.press("Enter")
    page.wait(f"vonkel.tool?.name === 'sculpt' && vonkel.ui.shape === {name!r} && vonkel.strengths[{name!r}] === 1")


def pull(page, at, by):
    mouse = page.page.mouse
    mouse.move(*at)
    mouse.down()
    for k in range(1, 6):
        mouse.move(at[0] + by[0] * k / 5, at[1] + by[1] * k / 5)
    mouse.up()
    settled(page)


def rest(page):
    page.js("vonkel.useTool(null)")
    page.js("vonkel.toRest().then(() => true)")
    page.answered()


def test_expressions_are_sculpted_split_boarded_and_all_of_them_play_together(page, bench, whole):
    shop, number = bench
    head = face(page)
    for region, low, high in (("brows", 0.2, 0.32), ("eyes", 0.09, 0.18), ("mouth", -0.06, 0.07)):
        c = shop.character(number)
        off = c.points - head
        inside = np.flatnonzero((off[:, 1] > low) & (off[:, 1] < high) & (off[:, 2] > 0.05))
        step(page, "regions.set", {"name": region, "points": inside.tolist(), "soft": 0.012})
    for name, (region, place, by, both) in EXPRESSIONS.items():
        begin(page, name, region)
        assert page.js("vonkel.state.shapes.find((s) => s.name === vonkel.ui.shape).region") == region
        page.js("vonkel.tool.size = 0.035; vonkel.tool.changed()")
        if page.js("vonkel.symmetry") != both:
            page.click("Both sides")
        before = page.js("vonkel.state.steps")
        pull(page, on_skin(page, head + place), by)
        page.wait(f"vonkel.state.steps === {before + 1}")
        rest(page)
    c = shop.character(number)
    for name, (region, _, _, both) in EXPRESSIONS.items():
        moves = moves_of(c, name)
        assert np.abs(moves).max() > 0.003, name
        inside = np.zeros(len(c.points), bool)
        inside[c.arrays[f"region/{region}/points"]] = True
        assert not np.abs(moves[~inside]).any(), name
        assert (np.abs(mirror_image(c, moves) - moves).max() < 1e-5) == both, name
    page.page.locator("#left").get_by_role("button", name="smile").click()
    page.page.locator("[data-open=shape-made]").click()
    page.click("Left and right")
    page.wait("vonkel.state.shapes.some((s) => s.name === 'smile_R')")
    c = shop.character(number)
    assert np.abs(moves_of(c, "smile_L") + moves_of(c, "smile_R") - moves_of(c, "smile")).max() < 1e-7
    for half in ("smile_L", "smile_R"):
        step(page, "shapes.remove", {"shape": half})

    for region in ("brows", "eyes", "mouth"):
        page.js("(name) => { vonkel.ui.region = name; vonkel.ui.shape = ''; }", region)
        page.click("Make it")
        page.wait(f"vonkel.ui.openBoards.has({region!r})")
    page.js(
        "Promise.all([0, 1, 2].map((i) => vonkel.step('boards.set', { board: ['brows', 'eyes', 'mouth'][i], spot: [0.02 + 0.33 * i, 0.05], size: 0.42, snap: 'half' }, { quiet: true })))"
    )
    page.wait("[...document.querySelectorAll('.board-picture img')].every((i) => i.complete && i.naturalWidth > 0)")
    parts = {r: ["", *(n for n, e in EXPRESSIONS.items() if e[0] == r)] for r in ("brows", "eyes", "mouth")}
    stands = {r: "" for r in parts}
    seen = 0
    wanted_ones = list(product(*parts.values()))
    for wanted in wanted_ones if whole else wanted_ones[:: len(parts["mouth"]) + 1]:  # every one with some others
        for region, name in zip(parts, wanted, strict=True):
            if stands[region] != name:
                to_picture(page, region, name)
                stands[region] = name
        on = {n for n in wanted if n}
        page.wait(f"JSON.stringify(Object.keys(vonkel.strengths).sort()) === {as_json(sorted(on))!r}")
        assert all(v == 1 for v in page.js("vonkel.strengths").values())
        seen += 1
    assert len(wanted_ones) == 3 * 3 * 5 and seen >= 8
    shown = np.array(page.js("Array.from(vonkel.plate.points)")).reshape(-1, 3)
    c = shop.character(number)
    wanted = c.points + sum(moves_of(c, n) for n in on)
    assert np.abs(shown - wanted).max() < 5e-4
    assert not page.troubles


def as_json(words):
    import json

    return json.dumps(words, separators=(",", ":"))


def step(page, name, params):
    page.js("([name, params]) => vonkel.step(name, params, { quiet: true }).then(() => true)", [name, params])


def to_picture(page, board, name):
    """The bead dragged on to a picture, or to the middle."""
    over = page.page.locator(f".board[aria-label='Board {board}']")
    bead, picture = over.locator(".bead").bounding_box(), None
    picture = over.locator(f"[data-picture='{name or 'rest'}']").bounding_box()
    mouse = page.page.mouse
    mouse.move(bead["x"] + bead["width"] / 2, bead["y"] + bead["height"] / 2)
    mouse.down()
    x, y = picture["x"] + picture["width"] / 2, picture["y"] + picture["height"] / 2
    mouse.move(x, y, steps=3)
    mouse.up()
    page.answered()


def test_a_corrective_for_a_bent_elbow_makes_its_card_better(page, bench):
    shop, number = bench
    page.page.locator("#run-trials").click()
    page.wait("vonkel.strip.cards.length > 3 && vonkel.strip.fresh", 120)
    page.page.locator(".pose-card", has_text="elbows 120°").click()
    page.wait("vonkel.trial === 'elbows 120°' && vonkel.live.idle")
    page.page.locator("[data-open=shape-corrective]").click()
    page.page.get_by_label("joint of the corrective").select_option("forearm_L")
    page.page.get_by_label("name of the corrective").fill("elbow")
    page.click("Begin it here")
    page.wait("vonkel.tool?.name === 'sculpt' && vonkel.ui.shape === 'elbow_L' && vonkel.strengths.elbow_L > 0.999")
    assert page.js("vonkel.trial") == "elbows 120°"
    card = page.js("vonkel.strip.chosen()")
    page.js("vonkel.tool.size = 0.06; vonkel.tool.strength = 0.8; vonkel.tool.changed()")
    page.click("Look there")
    for _ in range(2):
        before = page.js("vonkel.state.steps")
        page.click("Even out there")  # the crease is hidden in the bend
        page.wait(f"vonkel.state.steps === {before + 1}")
    page.wait("vonkel.state.last.sentence.startsWith('Evened out elbow_L, both sides, in “elbows 120°”')")
    page.wait(f"vonkel.strip.now.get('elbows 120°')?.badness < {0.97 * card['badness']}")
    c = shop.character(number)
    left, right = moves_of(c, "elbow_L"), moves_of(c, "elbow_R")
    assert np.abs(left).max() > 1e-4 and np.abs(mirror_image(c, left) - right).max() < 1e-6
    assert not page.troubles


def test_a_target_in_another_order_is_refused_in_words_and_goes_in_with_its_rest(page, bench, tmp_path):
    shop, number = bench
    c = shop.character(number)
    order = np.random.default_rng(1).permutation(len(c.points))
    moved = c.points + np.array([0.0, 0.01, 0.0]) * (c.points[:, 1:2] > 1.0)
    for name, points in (("raised", moved), ("still", c.points)):
        lines = [f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in points[order]] + ["f 1 2 3"]
        (tmp_path / f"{name}.obj").write_text("\n".join(lines))
    page.page.locator("[data-open=shapes-bring]").click()
    page.page.get_by_label("Mesh of the shape").set_input_files(tmp_path / "raised.obj")
    page.click("Add the shape")
    page.wait("document.getElementById('toasts').textContent.includes('in another order: its point')")
    said = page.js("document.getElementById('toasts').textContent")
    assert "bring the mesh at rest from the same file along" in said
    assert len(page.troubles) == 1 and "422" in page.troubles.pop()  # the browser's own line about the refusal
    page.page.get_by_label("Its mesh at rest", exact=True).set_input_files(tmp_path / "still.obj")
    page.click("Add the shape")
    page.wait("vonkel.state.shapes.some((s) => s.name === 'raised')")
    assert np.abs(moves_of(shop.character(number), "raised") - (moved - c.points)).max() < 2e-6


def test_a_whole_shape_is_dragged_by_its_handles_and_a_region_is_painted(page, bench):
    shop, number = bench
    face(page, 1.4)
    begin(page, "squash", "")
    page.page.locator("#dock").get_by_role("button", name="Whole").click()
    page.wait("vonkel.tool?.name === 'place' && vonkel.plate.landmarks.length === 5")
    page.page.get_by_label("part").select_option("eye left")
    page.click("from y")
    pivot, top = page.js("['pivot', 'y'].map((n) => vonkel.plate.landmarks.find((m) => m.name === n).place)")
    a, b = page.at("free", pivot), page.at("free", top)
    page.drag(b, (0.4 * (a[0] - b[0]), 0.4 * (a[1] - b[1])))
    page.js("vonkel.tool.strokes.last.then(() => true)")
    page.wait("vonkel.state.last.sentence.startsWith('Moved eye left of squash')")
    c = shop.character(number)
    eye = slice(*c.part("eye left").points)
    moved = c.points[eye] + moves_of(c, "squash")[eye]
    shares = np.ptp(moved, axis=0) / np.ptp(c.points[eye], axis=0)
    assert shares[1] == pytest.approx(0.6, abs=0.05) and np.prod(shares) == pytest.approx(1.0, abs=0.01)
    assert not np.abs(np.delete(moves_of(c, "squash"), np.r_[eye], 0)).any()

    page.js("vonkel.useTool(null); vonkel.ui.region = ''")
    page.page.locator("#dock").get_by_role("button", name="Region").click()
    page.page.get_by_label("name of the region").fill("chin")
    page.page.get_by_label("name of the region").press("Enter")
    head = face(page)
    pull(page, page.at("free", list(head + (0.03, -0.02, 0.2))), (10, 0))
    page.wait("vonkel.state.regions.some((r) => r.name === 'chin')")
    amounts = shop.character(number).arrays["region/chin/amounts"]
    assert amounts.max() > 0.99 and len(amounts) > 20
    assert not page.troubles
