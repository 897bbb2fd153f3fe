"""What is entered on the page stands where riggers look; what listens lets go again; forms come from the steps' schemas."""

import numpy as np
import pytest

from tests.web.page import Page
from vonkel.demo import DATA, READY
from vonkel.workshop import Workshop

STATIONS = ("model", "joints", "limbs", "skin", "shapes", "face", "trials", "handover")


@pytest.fixture(scope="module")
def rooms(browser, server):
    """A page of its own on the finished otter."""
    number = Workshop(server.store).bring_in(READY, (DATA / READY).read_bytes())
    page = Page(browser, server.base)
    yield page, number
    page.page.close()


def opened(rooms, station, painted=False):
    page, number = rooms
    page.painted = painted
    page.open(f"/c/{number}/{station}")
    page.wait("vonkel.state && vonkel.plate.mesh && vonkel.strip.shown")
    return page


DUMMIES = """async () => {
  const { enterStation, enterSheet } = await import("/static/js/app/stations.js");
  const { enterTool, PlateTool } = await import("/static/js/app/tools.js");
  const { enter } = await import("/static/js/app/actions.js");
  const { h } = await import("/static/js/widgets/html.js");
  class Brush extends PlateTool {
    seen = [];
    over = 0;
    stroke(spot, done) { if (done) this.over += 1; else if (spot.hit) this.seen.push(spot.hit.point); this.changed(); }
    panel() { return h("p", { id: "brushed" }, `${this.seen.length} places, ${this.over} strokes`); }
  }
  enterTool(new Brush({ name: "dummy", title: "Dummy brush", station: "skin", key: "y", hint: "Pull." }));
  enterSheet("skin", { id: "dummy", side: "left", draw: (b) => h("p", { id: "zones" }, `zones of ${b.state.name}`) });
  enterSheet("skin", { id: "row", side: "shelf", title: "Dummy row", high: 120, draw: () => h("p", { id: "row" }, "a row") });
  enter({ id: "dummy.act", words: "Wave a flag", where: "skin", key: "u", dock: { at: ["skin"], kind: "act", label: "Flag" },
    run: (b) => { b.toRest(); window.waved = (window.waved ?? 0) + 1; } });
  enterStation("attic", { left: () => h("h2", {}, "Attic"), right: () => h("p", { id: "attic" }, "dust"), large: "free" });
  vonkel.look();
}"""


def test_a_dummy_tool_sheet_shelf_action_and_station_stand_where_they_are_looked_for(rooms):
    page = opened(rooms, "skin")
    page.js(DUMMIES)
    assert page.page.locator("#zones").inner_text() == f"zones of {page.state('name')}"
    page.click("Dummy row")
    page.page.locator("#row").wait_for()
    dock = page.page.locator("#dock")
    assert {"Dummy brush", "Flag"} <= set(dock.locator("button").all_inner_texts())
    page.page.keyboard.press("y")  # its key takes it up
    page.page.locator("#brushed").wait_for()
    page.laid_out()
    spot = page.js(
        "(() => { const p = vonkel.plate, b = p.stage.getBoundingClientRect(), q = p.project('free', p.jointPlace(p.index.get('chest'))); return [q[0] + b.left, q[1] + b.top]; })()"
    )
    mouse = page.page.mouse
    mouse.move(*spot)
    mouse.down()
    mouse.move(spot[0] + 30, spot[1] + 30, steps=10)
    mouse.up()
    page.wait("vonkel.tool.over === 1")
    assert page.js("vonkel.tool.seen.length") >= 10
    assert f"{page.js('vonkel.tool.seen.length')} places, 1 strokes" == page.page.locator("#brushed").inner_text()
    page.page.keyboard.press("Escape")
    page.page.keyboard.press("u")
    page.wait("window.waved === 1")
    page.page.keyboard.press("/")
    page.page.get_by_label("Find an action").last.fill("wave a flag")
    page.page.keyboard.press("Enter")
    page.wait("window.waved === 2")
    page.page.keyboard.press("?")
    page.page.locator("#keys").get_by_text("Wave a flag").wait_for()
    page.page.keyboard.press("Escape")
    page.js("vonkel.go('attic')")
    page.page.locator("#attic").wait_for()
    assert page.troubles == []


def test_a_step_that_no_station_has_a_place_for_is_asked_for_by_its_own_schema(rooms):
    page = opened(rooms, "model")
    page.page.keyboard.press("/")
    page.page.get_by_label("Find an action").last.fill("model.resize")
    page.page.locator("#finder .active", has_text="model.resize").wait_for()
    page.page.keyboard.press("Enter")
    page.page.get_by_label("metres", exact=True).fill("1.5")
    page.page.get_by_label("measure", exact=True).select_option("height")
    page.click("Do it")
    page.wait("Math.abs(vonkel.state.height - 1.5) < 1e-6 && !vonkel.tool")
    page.js("vonkel.undo()")
    page.wait("Math.abs(vonkel.state.height - 1.5) > 0.1")
    page.quiet()


def test_what_is_being_typed_outlives_a_drawing_of_the_sheet(rooms):
    page = opened(rooms, "limbs")
    field = page.page.get_by_label("Pose name")
    field.fill("half of a na")
    page.js("vonkel.selectControl('hand_L')")
    page.js("vonkel.look()")
    assert field.input_value() == "half of a na"
    assert page.js("document.activeElement.getAttribute('aria-label')") == "Pose name"


LISTENERS = """() => { const counts = {};
  return { nodes: document.querySelectorAll('*').length, watchers: vonkel.watchers + vonkel.ui.watchers }; }"""


def test_many_visits_to_each_station_leave_no_listener_and_no_memory(rooms, whole):
    page = opened(rooms, "model")
    cdp = page.page.context.new_cdp_session(page.page)
    cdp.send("Performance.enable")

    def counted():
        """The least of what is alive: what a busy machine collects late is no leak, what stays is."""
        least = None
        still = 0
        for _ in range(60):
            cdp.send("HeapProfiler.collectGarbage")
            page.page.wait_for_timeout(120)
            told = {m["name"]: m["value"] for m in cdp.send("Performance.getMetrics")["metrics"]}
            now = (told["JSEventListeners"], told["Nodes"], told["JSHeapUsedSize"])
            fewer = least is None or now[0] < least[0] or now[1] < least[1]
            least = now if least is None else tuple(min(a, b) for a, b in zip(least, now, strict=True))
            still = 0 if fewer else still + 1
            if still == 8:
                break
        print(least)
        return (*least, page.js(LISTENERS))

    def visit():
        for key in STATIONS:
            page.js(f"vonkel.go('{key}')")
            page.wait(f"vonkel.shownStation === '{key}' && !vonkel.plate.pending")
        page.js("vonkel.go('joints')")
        for tool in ("draw", "plans"):
            page.js(f"vonkel.useTool('{tool}')")
            page.page.wait_for_timeout(15)
        page.js("vonkel.useTool(null)")
        page.js("vonkel.go('model')")

    for _ in range(3):  # what is made once, on the first visit, is there
        visit()
    page.answered()
    listeners, nodes, heap, own = counted()
    for _ in range(20 if whole else 6):  # more than 5: one left behind by each visit is told either way
        visit()
    page.answered()
    after = counted()
    assert after[0] <= listeners + 5, f"listeners: {listeners} before, {after[0]} after"
    assert after[1] <= nodes + (60 if whole else 24), f"nodes: {nodes} before, {after[1]} after"
    assert after[3]["watchers"] == own["watchers"]
    assert after[2] <= heap + 4e6, f"memory: {heap:.0f} before, {after[2]:.0f} after"


def test_parts_fade_let_clicks_through_and_come_back(rooms):
    page = opened(rooms, "model")
    body = page.state("parts.findIndex(p => p.name === 'body')")
    page.page.locator("[data-keep='part-body']").click()
    ray = "[[0, vonkel.state.height * 0.55 + vonkel.state.low[1], 5], [0, 0, -1]]"
    assert page.js(f"vonkel.plate.drawn.partOf[vonkel.plate.hit({ray}).triangle]") == body
    page.page.keyboard.press("f")
    page.page.get_by_role("button", name="Bring back 1 faded").wait_for()
    assert page.js(f"vonkel.plate.hit({ray})") is None
    assert page.js("vonkel.plate.mesh.geometry.groups.length") == 2
    page.click("Bring back 1 faded")
    page.wait(f"vonkel.plate.hit({ray}) !== null")
    assert page.js("vonkel.plate.mesh.geometry.groups.length") == 1


def test_of_a_large_mesh_a_drag_draws_only_what_moves_and_the_picture_is_the_same(rooms):
    """The figure counts as large for this test: in the middle of a drag its picture is that of drawing all of it."""
    page = opened(rooms, "limbs", painted=True)
    page.wait("vonkel.plate.controlFrames && vonkel.live.idle")
    page.js("vonkel.plate.drawn.large = 1000; vonkel.plate.controlsAway = false")
    at = page.control_at("free", "hand_L")
    mouse = page.page.mouse
    mouse.move(*at)
    mouse.down()
    mouse.move(at[0] + 20, at[1] - 50, steps=8)
    page.wait("vonkel.live.idle && !vonkel.plate.pending && vonkel.plate.drawn.divided?.moving.length")
    count = page.js("[vonkel.plate.drawn.division().moving.length, vonkel.plate.triangles.length]")
    assert 0 < count[0] < 0.5 * count[1], "the arm moves, the rest stands still"
    shot = """(whole) => { const p = vonkel.plate, was = p.dragging; if (whole) p.dragging = false; p.paint(); p.dragging = was;
        const c = document.createElement('canvas'), g = p.renderer.domElement; c.width = g.width; c.height = g.height;
        const x = c.getContext('2d'); x.drawImage(g, 0, 0); return [...x.getImageData(0, 0, c.width, c.height).data]; }"""
    parts, whole = (np.array(page.js(shot, w), np.int16).reshape(-1, 4) for w in (False, True))
    mouse.up()
    page.answered()
    assert (whole[:, 3] > 0).mean() > 0.05, "there is a figure on the picture"
    assert (np.abs(parts - whole).max(1) > 8).mean() < 0.002
    page.wait("vonkel.plate.still.split === -1 && !vonkel.plate.pending")
    page.js("vonkel.toRest()")
    page.answered()
