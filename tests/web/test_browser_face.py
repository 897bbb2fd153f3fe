"""Faces in the browser, with the mouse: marks found and moved, the face made, eyes crossed, lids that meet low, the mouth pad."""

import gzip
from pathlib import Path

import numpy as np
import pytest

from vonkel.core.shapes.moves import moves_of
from vonkel.workshop import Workshop

HEADS = Path(__file__).resolve().parent.parent / "data/heads"


@pytest.fixture
def bench(page, server, otter):
    """Lutra, rigged and bound, at the Face station; gives the shop and her number."""
    shop = Workshop(server.store)
    bare = otter.with_(
        shapes=(), kits=tuple(k for k in otter.kits if k.kind != "turns" or "jaw" not in str(k.joints)),
        controls=tuple(c for c in otter.controls if c.kit != "jaw"),
        arrays=dict.fromkeys(n for n in otter.arrays if n.startswith("shape/")),
    )  # fmt: skip
    number = shop.add(bare, {}, "Brought in Lutra")
    at_face(page, number)
    return shop, number


def at_face(page, number):
    page.open(f"/c/{number}/face")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.plate.near && vonkel.strip.shown")
    page.laid_out()


def mark_at(page, view, name):
    return page.js(
        """([view, name]) => { const p = vonkel.plate, b = p.stage.getBoundingClientRect();
        const q = p.project(view, p.landmarks.find((m) => m.name === name).place); return [q[0] + b.left, q[1] + b.top]; }""",
        [view, name],
    )


def middle_of(page, selector):
    box = page.page.locator(selector).bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def found(page):
    page.click("Find what is where")
    page.wait(
        "vonkel.state.face.marks.length > 20 && vonkel.tool?.name === 'marks' && vonkel.plate.landmarks.length > 20"
    )


def make(page, words="Make the face"):
    page.click(words)
    page.wait("!vonkel.job && vonkel.state.face.products.every((p) => p.made && !p.stale)", 120)
    page.answered()


def test_the_bipeds_face_is_made_moved_and_kept(page, bench):
    shop, number = bench
    found(page)
    assert page.js("vonkel.plate.landmarks.filter((m) => m.sure !== 'sure').length") > 0  # doubtful ones are ringed
    make(page)
    rest = np.array(shop.character(number).points)

    # Crossed eyes, by the mouse: each iris on its own, dragged towards the nose.
    page.click("Each on its own")
    for side, way in (("L", -1), ("R", 1)):
        page.drag(middle_of(page, f'[data-eye="eye_{side}"]'), (way * 16, 0))
        assert way * page.js(f"vonkel.values['eye aim_{side}']['move x']") > 0
    crossed = np.array(page.js("[...vonkel.plate.points]")).reshape(-1, 3)
    for part, way in (("eye left", -1), ("eye right", 1)):
        first, end = shop.character(number).part(part).points
        pupil = first + int(rest[first:end, 2].argmax())
        assert way * (crossed[pupil, 0] - rest[pupil, 0]) > 0.003  # both turn to the nose
    page.click("Back to rest (b)")
    page.click("Both eyes")

    # Lids that meet low: the tick dragged down, then the upper edge onto the lower one, where it stops.
    page.drag(middle_of(page, '[data-line="eye_L"]'), (0, 7))
    line = page.js("vonkel.values.lids_L.line")
    assert 0 < line < 0.25 and line == page.js("vonkel.values.lids_R.line")
    page.page.get_by_label("blink of the eyes").fill("1")
    page.answered()
    assert page.js("vonkel.strengths['upper lid_L']") == pytest.approx(1 - line, abs=1e-3)
    assert page.js("vonkel.strengths['lower lid_L']") == pytest.approx(line, abs=1e-3)
    page.page.get_by_label("blink of the eyes").fill("0")
    page.answered()
    edge = page.js(
        """(() => { const p = document.querySelector('[data-lid="upper eye_L"]'), q = p.getPointAtLength(p.getTotalLength() / 2);
        const m = p.getScreenCTM(); return [q.x * m.a + m.e, q.y * m.d + m.f]; })()"""
    )
    page.drag(edge, (0, 90))
    assert page.js("vonkel.strengths['upper lid_L']") == pytest.approx(1, abs=1e-3)  # not past the lower one
    page.click("Back to rest (b)")

    # The pad: its bead to the corner where the mouth is wide and open.
    page.click("Open mouth pad")
    paper = page.page.locator(".board-paper").bounding_box()
    bead = page.page.locator(".bead").bounding_box()
    start = (bead["x"] + bead["width"] / 2, bead["y"] + bead["height"] / 2)
    page.drag(start, (paper["width"] * 0.5, -paper["height"] * 0.5))
    assert page.js("vonkel.strengths['AU20 lip stretcher']") > 0.5
    moved = np.array(page.js("[...vonkel.plate.points]")).reshape(-1, 3)
    assert np.abs(moved - rest).max() > 0.03  # the jaw has opened
    page.click("Close mouth pad")
    page.click("Back to rest (b)")

    # A smile of the rigger's own stays when a mark is moved and the face made again.
    c = shop.character(number)
    corner = np.array(c.face.mark("mouth_corner_L").place)
    triangle = float(np.linalg.norm(c.points - corner, axis=1).argmin())
    shop.apply(number, "shapes.new", {"name": "smile"})
    stroke = {"shape": "smile", "brush": "swell", "radius": 0.05, "front": False}
    shop.apply(number, "shapes.sculpt", {**stroke, "samples": [(triangle, 1 / 3, 1 / 3, 1.0, 0.0, 0.0, -1.0)]})
    smile, unit = (moves_of(shop.character(number), n) for n in ("smile", "AU12 lip corner puller"))
    at_face(page, number)
    page.wait("vonkel.tool?.name === 'marks'")
    page.drag(mark_at(page, "front", "mouth_corner_L"), (6, -14))
    page.wait("vonkel.state.face.marks.find((m) => m.name === 'mouth_corner_L').settled")
    assert page.js("vonkel.state.face.marks.find((m) => m.name === 'mouth_corner_R').settled")  # its partner went along
    page.wait("vonkel.state.face.products.some((p) => p.stale)")
    make(page, "Make it again")
    after = shop.character(number)
    assert np.array_equal(moves_of(after, "smile"), smile)
    assert np.abs(moves_of(after, "AU12 lip corner puller") - unit).max() > 1e-3
    assert not page.troubles


def test_a_chosen_mark_shows_what_hangs_on_it(page, bench):
    found(page)
    page.page.locator("summary", has_text="that are sure").click()
    page.page.locator(".mark-row", has_text="chin").click()
    page.wait("vonkel.legend?.title.includes('chin')")
    assert page.page.get_by_text("How long the jaw is").is_visible()
    page.page.get_by_role("button", name="It is right").click()
    page.wait("vonkel.state.face.marks.find((m) => m.name === 'chin').settled")
    page.page.keyboard.press("Escape")
    assert not page.js("vonkel.plate.landmarks.length")
    page.page.keyboard.press("m")
    page.wait("vonkel.plate.landmarks.length > 20")
    assert not page.troubles


def test_a_head_from_elsewhere_is_cut_open_and_gets_its_face(page, server):
    """A bust whose mouth is only a groove: marked, cut, and made, without a plan of its own."""
    data = gzip.decompress((HEADS / "bust-0.3.obj.gz").read_bytes())
    shop = Workshop(server.store)
    number = shop.bring_in("stranger.obj", data)
    shop.apply(number, "joints.lay_plan", {"plan": "head"})
    at_face(page, number)
    found(page)
    page.page.get_by_role("button", name="Cut it open").click()
    page.wait("vonkel.state.face.marks.some((m) => m.name === 'mouth_upper' && m.how.includes('the mouth'))", 90)
    make(page)
    c = shop.character(number)
    assert c.skin and {k.kind for k in c.kits} >= {"eyes", "lids", "jaw"} and len(c.poses) == 14
    page.js("vonkel.choose({ control: 'jaw' })")
    page.page.get_by_role("spinbutton", name="open").first.fill("1")
    page.page.keyboard.press("Enter")
    page.answered()
    moved = np.array(page.js("[...vonkel.plate.points]")).reshape(-1, 3)
    assert np.abs(moved - c.points).max() > 0.03
    assert not page.troubles


def test_a_blind_head_gets_eyes_that_shut_and_is_hung_on_a_body(page, server, otter):
    shop = Workshop(server.store)
    head = shop.bring_in("blind.obj", gzip.decompress((HEADS / "bust-0.3.obj.gz").read_bytes()))
    shop.apply(head, "joints.lay_plan", {"plan": "head"})
    for part in [p.name for p in shop.character(head).parts if p.role == "eye"]:
        shop.apply(head, "model.remove_part", {"part": part})
    shop.apply(head, "skin.bind", {})
    at_face(page, head)
    found(page)
    page.page.get_by_label("Upper lid above the line of sight").fill("30")
    page.page.locator("form", has_text="upper lid").get_by_role("button", name="Build plain eyes").click()
    page.wait("vonkel.state.parts.filter((p) => p.role === 'lid').length === 4")
    page.click("Look again")
    page.wait("vonkel.state.face.marks.find((m) => m.name === 'lid_upper_L')?.sure === 1")
    make(page)
    rest = np.array(shop.character(head).points)
    shell = shop.character(head).part("upper lid_L").points
    page.page.get_by_label("blink of the eyes").fill("1")
    page.answered()
    shut = np.array(page.js("[...vonkel.plate.points]")).reshape(-1, 3)
    assert (shut - rest)[slice(*shell), 1].min() < -0.005  # its edge has come down
    assert not page.js(
        "Object.keys(vonkel.strengths).some((n) => n.startsWith('upper lid'))"
    )  # no shape has a part in it
    body = shop.add(otter, {}, "Brought in Lutra")
    at_face(page, body)
    page.page.get_by_text("Hang on a head that was rigged alone").click()
    page.wait("vonkel.ui.others?.length > 0")
    page.page.get_by_label("The head", exact=True).select_option(str(head))
    page.click("Hang it on")
    page.wait("vonkel.state.last.sentence.startsWith('Hung a head')", 60)
    c = shop.character(body)
    assert c.joint("lid_upper_L").side == "L" and len(c.points) == len(otter.points) + len(rest)
    assert not page.troubles
