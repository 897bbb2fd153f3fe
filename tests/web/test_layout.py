"""Whether everything fits: every sheet of every station with the longest names of the whole cast, and the whole figure in the
room that is really free."""

from functools import cache
from pathlib import Path

import pytest

from tests.web.page import Page
from vonkel.demo import CAST, DATA, READY, add_member
from vonkel.workshop import Workshop

AUDIT = (Path(__file__).parent / "audit.js").read_text().split("\n", 1)[1]
STATIONS = ("model", "joints", "limbs", "skin", "shapes", "face", "trials", "handover")
VIEWS = {
    "limbs": [f"vonkel.ui.rigView = '{v}'" for v in ("control", "links", "rules", "order")],
    "joints": [f"vonkel.ui.jointTab = '{v}'" for v in ("place", "turn", "free", "bone")],
}
UNPAINTED = (
    "vonkel.plate.paint = () => {}"  # where things stand is asked here, not how they look: that would take minutes
)
LONGEST = """() => { const b = vonkel, long = (list) => [...list].sort((x, y) => y.name.length - x.name.length)[0]?.name;
  if (["joints", "skin"].includes(b.station) && b.state.joints.length) b.selectJoint(long(b.state.joints));
  if (b.station === "limbs" && b.state.controls.length) b.selectControl(long(b.state.controls)); }"""


@pytest.fixture(scope="module")
def cast(server):
    """file → number of a finished character of that member of the cast, made when it is first asked for."""
    shop = Workshop(server.store)

    @cache
    def finished(file):
        if file == "otter.obj":
            number = shop.bring_in(READY, (DATA / READY).read_bytes())
        else:
            number = add_member(shop, file)
            for step, params in (
                ("joints.lay_plan", {"plan": CAST[file].plan}),
                ("limbs.outfit", {}),
                ("skin.bind", {"smooth": 4}),
            ):
                shop.apply(number, step, params)
        shop.run_trials(number)
        return number

    return finished


@pytest.fixture(params=[(1280, 800), (1920, 1080)], ids=["1280x800", "1920x1080"])
def sized(request, browser, server):
    made = Page(browser, server.base)
    made.page.set_viewport_size({"width": request.param[0], "height": request.param[1]})
    yield made
    made.page.close()
    assert made.troubles == []


@pytest.mark.sampled(2)
@pytest.mark.parametrize("file", [f for f, m in CAST.items() if m.plan])
def test_nothing_runs_over_or_lies_on_another(page, cast, file):
    page.open(f"/c/{cast(file)}/model")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.shownStation")
    page.js(UNPAINTED)
    for station in STATIONS:
        page.station(station)
        page.js(LONGEST)
        if station == "trials":
            page.wait("vonkel.strip.shown && (vonkel.strip.cards.length || !vonkel.state.trial_names.length)")
            page.js("vonkel.strip.cards.length && vonkel.strip.go([...vonkel.strip.cards].sort((a, b) => b.worst_joint.length - a.worst_joint.length)[0])")  # fmt: skip
        for view in VIEWS.get(station, [""]):
            page.js(f"{view}; vonkel.look()")
            if "order" in view:
                page.wait("vonkel.ui.order.rows")
            page.js("document.querySelectorAll('.sheet .accordion-button.collapsed').forEach((d) => d.click())")
            page.wait("!document.querySelector('.sheet')?.innerText.includes('Measuring')")
            assert page.js(AUDIT) == [], (station, view)


def test_the_shelf_fits_too(page, cast):
    page.open("/")
    page.page.wait_for_load_state("networkidle")
    assert page.js(AUDIT) == []
    heights = page.js(
        "[...document.querySelectorAll('.card-character .acts')].map((a) => [...a.children].map((b) => b.offsetHeight))"
    )
    assert len(heights) > 5
    assert all(max(h) - min(h) <= 1 for h in heights)  # a card's buttons are of one size


SEEN = """() => { const p = vonkel.plate, r = p.views.free.rect, dock = document.getElementById("dock").getBoundingClientRect(),
    stage = p.stage.getBoundingClientRect(), floor = p.large === "free" && dock.height ? dock.top - stage.top : r.y + r.h,
    hint = document.getElementById("hint").getBoundingClientRect(), roof = hint.height ? hint.bottom - stage.top : r.y;
  let left = Infinity, right = -Infinity, top = Infinity, low = -Infinity;
  for (let i = 0; i < p.rest.length; i += 3) { const [x, y] = p.project("free", [p.rest[i], p.rest[i + 1], p.rest[i + 2]]);
    left = Math.min(left, x); right = Math.max(right, x); top = Math.min(top, y); low = Math.max(low, y); }
  return { inside: left >= r.x && right <= r.x + r.w && top >= roof && low <= floor, share: Math.max((right - left) / r.w, (low - top) / (floor - roof)) }; }"""


POSED = SEEN.replace("p.rest", "p.points")


@pytest.mark.sampled(3)
@pytest.mark.parametrize("file", ["otter.obj", "bat.obj"])
def test_the_whole_figure_is_in_the_room_that_is_free(sized, cast, file):
    sized.open(f"/c/{cast(file)}/limbs")
    sized.wait("vonkel.state && vonkel.plate.mesh && vonkel.shownStation")
    sized.js(UNPAINTED)
    for station in ("limbs", "skin", "trials", "handover", "joints", "limbs"):
        sized.station(station)
        seen = sized.js(SEEN)
        assert seen["inside"], station
        assert seen["share"] > 0.7, station  # and no smaller than it must be
    if file == "otter.obj":
        at_rest = sized.js(SEEN)["share"]
        sized.station("trials")
        sized.js("vonkel.trial = 'arms up'; vonkel.strip.pose()")
        sized.wait("vonkel.plate.posed && vonkel.live.idle")
        assert sized.js(POSED)["inside"] and sized.js(SEEN)["share"] < at_rest
        sized.station("limbs")
        assert sized.js(SEEN)["share"] == pytest.approx(at_rest)
    sized.station("skin")
    strip = sized.js("document.getElementById('strip').getBoundingClientRect().height")
    assert strip > 100  # the strip was open, and took its room
    # Who has looked closer keeps the view; a double click shows the whole figure again.
    sized.js("vonkel.plate.lookAt([0, 0.1, 0])")
    sized.station("limbs")
    assert sized.js("vonkel.plate.looked")
    box = sized.js(
        "(() => { const b = vonkel.plate.stage.getBoundingClientRect(); return [b.left + 12, b.top + b.height / 2]; })()"
    )
    sized.page.mouse.dblclick(*box)
    sized.laid_out()
    assert sized.js(SEEN)["inside"]
