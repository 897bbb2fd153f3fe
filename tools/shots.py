"""Take the pictures of every main view from the demo data, at 1280×800, into docs/screenshots."""

import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import sync_playwright

OUT = Path(__file__).resolve().parent.parent / "docs/screenshots"
ARGS = ["--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking"]
BASE = "http://127.0.0.1:8499"


def at(page, view, place):
    """Where on the screen a place of the world lies in a drawing."""
    return page.evaluate(
        "([v, p]) => { const q = vonkel.plate.project(v, p), b = vonkel.plate.stage.getBoundingClientRect(); return [q[0] + b.left, q[1] + b.top]; }",
        [view, place],
    )


def wait(page, expression, seconds=90):
    end = time.time() + seconds
    while not page.evaluate(f"(() => {{ try {{ return !!({expression}) }} catch {{ return false }} }})()"):
        if time.time() > end:
            raise TimeoutError(expression)
        page.wait_for_timeout(80)


def shoot(page):
    def shot(name):
        page.wait_for_timeout(900)
        page.evaluate("document.getElementById('toasts').replaceChildren()")
        page.evaluate("window.vonkel && vonkel.plate.paint()")
        page.screenshot(path=OUT / f"{name}.png")
        print(name)

    def station(key):
        page.locator(f".path [data-station={key}]").click()
        wait(page, f"vonkel.shownStation === '{key}'")

    page.goto(f"{BASE}/")
    page.wait_for_load_state("networkidle")
    shot("characters")
    page.goto(f"{BASE}/c/1/model")
    wait(page, "vonkel.state && vonkel.plate.mesh")
    page.evaluate("vonkel.ui.part = 'body'; vonkel.look()")
    shot("model")
    others(page, shot)
    page.goto(f"{BASE}/c/1/model")
    wait(page, "vonkel.state && vonkel.plate.mesh")
    for step, done in (
        ("joints.lay_plan", "joints.length > 20"),
        ("limbs.outfit", "kits.length > 5"),
        ("skin.bind", "skin"),
    ):
        page.evaluate(f"vonkel.step('{step}', {{}})")
        wait(page, f"vonkel.state.{done} && document.getElementById('job').hidden")
    station("joints")
    page.locator("[data-joint=forearm_L]").click()
    shot("joints")
    station("limbs")
    wait(page, "vonkel.plate.controlFrames")
    page.evaluate("vonkel.selectControl('hand_L')")
    page.evaluate(
        "vonkel.values = {hand_L: {'move x': -0.05, 'move y': 0.34, 'move z': 0.05}, 'head turn': {'turn x': -0.25}, 'tail 3': {'move x': 0.12, 'move y': 0.1}, 'tail 4': {'move x': 0.1}, 'foot roll_R': {roll: 0.5}}; vonkel.pose(); vonkel.keepPose('Waved')"
    )
    shot("limbs")
    page.evaluate("vonkel.ui.rigView = 'order'; vonkel.ui.openGroups.add('2-arm_L'); vonkel.look()")
    wait(page, "vonkel.ui.order.rows")
    shot("order")
    page.evaluate(
        "vonkel.ui.rigView = 'links'; vonkel.ui.openLink = 'fingers_L fist'; vonkel.ui.linkFollower = new Map([['fingers_L fist', 4]])"
    )
    page.evaluate(
        "vonkel.selectControl('fingers_L'); vonkel.ui.linkLead = 'fingers_L'; vonkel.ui.linkChannel = 'fist'; vonkel.setChannel('fingers_L', 'fist', 1, true)"
    )
    page.wait_for_timeout(900)
    page.evaluate(
        "vonkel.look(); vonkel.plate.lookAt(vonkel.plate.jointPlace(vonkel.plate.index.get('middle_1_L')), 0.5)"
    )
    shot("links")
    page.evaluate("vonkel.ui.rigView = 'control'; vonkel.ui.linkLead = ''; vonkel.plate.home()")
    page.evaluate("vonkel.toRest()")
    station("skin")
    page.evaluate("vonkel.strip.run()")
    wait(page, "vonkel.strip.cards.length > 9 && vonkel.strip.fresh && document.getElementById('job').hidden")
    page.locator("[data-joint=forearm_L]").click()
    wait(page, "!document.getElementById('legend').hidden")
    wait(page, "vonkel.ui.strays?.some(s => s.calmer !== undefined)")
    shot("skin")
    page.evaluate("vonkel.strip.go(vonkel.strip.cards.find(c => c.name === 'arms forward'))")
    page.get_by_role("button", name="Brush", exact=True).click()
    page.evaluate(
        "vonkel.selectJoint('upper_arm_L'); vonkel.plate.lookAt(vonkel.plate.jointPlace(vonkel.plate.index.get('upper_arm_L')), 0.5)"
    )
    wait(page, "vonkel.live.idle && vonkel.legend?.title === 'weight of L upper arm'")
    place = page.evaluate("vonkel.plate.jointPlace(vonkel.plate.index.get('upper_arm_L'))")
    page.mouse.move(*at(page, "free", place))
    shot("brush")
    page.evaluate("vonkel.useTool(null); vonkel.trial = ''; vonkel.plate.home(); vonkel.toRest()")
    station("shapes")
    expressions(page)
    shot("shapes")
    page.evaluate("vonkel.ui.openBoards = new Set()")
    page.evaluate("vonkel.toRest().then(() => true)")
    station("face")
    page.get_by_role("button", name="Find what is where").click()
    wait(page, "vonkel.state.face.marks.length > 20 && vonkel.tool?.name === 'marks'")
    page.get_by_role("button", name="Make the face").click()
    wait(page, "!vonkel.job && vonkel.state.face.products.every((p) => p.made)")
    page.evaluate("vonkel.toRest().then(() => vonkel.useTool('marks'))")
    page.locator(".mark-row", has_text="hinge of the jaw").click()
    wait(page, "vonkel.legend?.title.includes('hinge') && vonkel.plate.near")
    shot("face")
    page.evaluate("vonkel.useTool(null)")
    page.evaluate("vonkel.toRest()")
    station("motion")
    page.evaluate(
        "vonkel.step('motion.walk', {bumps: [[0.1, 0.6, 0.4, 0.05], [-0.2, 1.2, 0.5, 0.06]]}).then(() => vonkel.step('motion.make_keys', {clip: 'walk', share: 0.01}))"
    )
    wait(page, "vonkel.clipAtHand()?.keyed")
    page.evaluate("vonkel.selectControl('foot_L'); vonkel.clipTo(31)")
    wait(page, "vonkel.clipFrame === 31 && vonkel.live.idle")
    shot("motion")
    page.evaluate("vonkel.step('motion.remove', {clip: 'walk'}).then(() => vonkel.toRest())")
    wait(page, "!vonkel.state.clips.length && vonkel.live.idle")
    station("trials")
    wait(page, "vonkel.strip.cards.length > 9")
    page.locator(".pose-card", has_text="deep crouch").click()
    shot("trials")
    station("handover")
    page.evaluate("vonkel.plate.home()")
    page.evaluate("vonkel.step('handover.skin', {}).then(() => vonkel.strip.run())")
    wait(page, "vonkel.state.skin.fresh && vonkel.strip.fresh && document.getElementById('job').hidden")
    page.evaluate("vonkel.trial = 'deep crouch'; vonkel.pose(); vonkel.look()")
    wait(page, "vonkel.plate.wanted && vonkel.live.idle")
    shot("handover")
    page.locator("#ledger-open").click()
    shot("ledger")


def others(page, shot):
    """Views of the other members of the cast: mending, loops, plans, turns, pivots."""

    def member(file, station):
        number = page.request.post(f"{BASE}/api/demo?who={file}").json()["number"]
        page.goto(f"{BASE}/c/{number}/{station}")
        wait(page, "vonkel.state && vonkel.plate.mesh && vonkel.shownStation")

    def idle(expression="true"):
        wait(page, f"document.getElementById('job').hidden && ({expression})")

    member("cracked.obj", "model")
    page.locator(".finding", has_text="disagree").get_by_role("button", name="Show").click()
    shot("mend")
    member("newt.obj", "joints")
    page.get_by_role("button", name="Choose a plan").click()
    wait(page, "vonkel.tool.known")
    page.locator(".plans").get_by_role("button", name="quadruped").click()
    page.get_by_role("button", name="Find landmarks").click()
    idle("vonkel.plate.landmarks.length")
    shot("plans")
    member("beetle.obj", "joints")
    page.evaluate("vonkel.step('joints.lay_plan', {plan: 'many-legged'})")
    idle("vonkel.state.joints.length > 30")
    page.evaluate("vonkel.go('limbs')")
    wait(page, "vonkel.kitKinds")
    page.evaluate("vonkel.step('limbs.add_kit', {kind: 'body', joints: {hips: ['thorax'], spine: ['fore_thorax']}})")
    idle("vonkel.state.kits.length === 1")
    page.locator("#stage").press("k")
    page.get_by_role("button", name="leg", exact=True).click()
    page.locator("[data-joint=thigh_2_L]").click()
    wait(page, "Object.keys(vonkel.tool.joints).length > 2")
    shot("kit")
    member("bat.obj", "joints")
    page.evaluate("vonkel.step('joints.lay_plan', {plan: 'winged'})")
    idle("vonkel.state.joints.length > 30")
    page.evaluate("vonkel.step('joints.free_by_table', {table: 'people'})")
    idle("vonkel.state.joints.some(j => j.freedom)")
    page.evaluate(
        "vonkel.selectJoint('forearm_L'); vonkel.ui.jointTab = 'turn'; vonkel.plate.axesShown = true; vonkel.look()"
    )
    shot("turns")
    member("otter.obj", "joints")
    page.evaluate("vonkel.useTool(null); vonkel.step('joints.lay_plan', {plan: 'biped'})")
    idle("vonkel.state.joints.length > 30")
    page.evaluate("vonkel.selectJoint('thigh_L')")
    page.get_by_role("button", name="Try pivots").click()
    wait(page, "document.getElementById('pivots').classList.contains('show')")
    shot("pivots")


EXPRESSIONS = {  # name → where the hand takes hold, from the head's joint, and where it goes, metres
    "smile": ((0.08, 0.03, 0.18), (0.012, 0.016, -0.006)),
    "frown": ((0.08, 0.03, 0.18), (0.002, -0.016, 0.0)),
    "brows up": ((0.06, 0.22, 0.13), (0.0, 0.016, 0.0)),
    "brows down": ((0.06, 0.22, 0.13), (-0.006, -0.014, 0.006)),
}


def expressions(page):
    """Some expressions, sculpted by steps, on a board; the bead between two of them."""
    head = page.evaluate("vonkel.state.joints.find((j) => j.role === 'head').place")
    look = """([[x, y, z], far]) => { const p = vonkel.plate; p.lookAt([x - 0.14, y + 0.09, z + 0.1]);
        p.camera.position.set(x - 0.1, y + 0.11, z + far); p.orbit.update(); p.draw(); }"""
    page.evaluate(look, [head, 0.85])
    for name, (place, way) in EXPRESSIONS.items():
        at = [h + o for h, o in zip(head, place, strict=True)]
        page.evaluate("(name) => vonkel.step('shapes.new', { name }, { quiet: true }).then(() => true)", name)
        triangle = page.evaluate(
            """(at) => { const p = vonkel.plate, [x, y] = p.project('free', at); return p.spot('free', x, y).hit.triangle; }""", at,
        )  # fmt: skip
        row = [triangle, 0.3, 0.3, 1, 0, 0, 0]
        params = {"shape": name, "brush": "pull", "radius": 0.06, "strength": 1, "samples": [row, [*row[:4], *way]]}
        page.evaluate("(p) => vonkel.step('shapes.sculpt', p, { quiet: true }).then(() => true)", params)
    page.evaluate(
        "vonkel.step('boards.make', { name: 'face', shapes: ['smile', 'frown', 'brows up', 'brows down'] }, { quiet: true }).then(() => true)"
    )
    page.evaluate("vonkel.step('boards.set', { board: 'face', size: 0.62 }, { quiet: true }).then(() => true)")
    page.evaluate(
        "vonkel.ui.put('openBoards', 'face', true); vonkel.values = { 'board:face': { across: -0.4, up: 0.6 } }; vonkel.pose()"
    )
    wait(page, "[...document.querySelectorAll('.board-picture img')].every((i) => i.complete && i.naturalWidth > 0)")


def main():
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as store:
        server = subprocess.Popen(
            [sys.executable, "-m", "vonkel.cli", "serve", "--demo", "--port", "8499", "--store", store]
        )
        try:
            for _ in range(1200):
                try:
                    urllib.request.urlopen(f"{BASE}/api/steps", timeout=1)
                    break
                except OSError:
                    time.sleep(0.1)
            with sync_playwright() as p:
                browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=ARGS)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                page.on("pageerror", lambda e: print("page error:", e))
                shoot(page)
                browser.close()
        finally:
            server.terminate()
            server.wait()


if __name__ == "__main__":
    main()
