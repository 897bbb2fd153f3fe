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
        page.screenshot(path=OUT / f"{name}.png")
        print(name)

    def station(key):
        page.locator(f".path [data-station={key}]").click()
        wait(page, f"vonkel.shownStation === '{key}'")

    page.goto(f"{BASE}/")
    page.wait_for_load_state("networkidle")
    shot("shelf")
    page.goto(f"{BASE}/c/1/model")
    wait(page, "vonkel.state && vonkel.plate.mesh")
    shot("model")
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
        "vonkel.values = {hand_L: {'move x': -0.05, 'move y': 0.34, 'move z': 0.05}, 'head turn': {'turn x': -0.25}, 'tail_2 turn': {'turn y': 0.3}, 'tail_4 turn': {'turn y': 0.4}}; vonkel.pose(); vonkel.keepPose('Waved')"
    )
    shot("limbs")
    page.evaluate("vonkel.toRest()")
    station("skin")
    page.evaluate("vonkel.strip.run()")
    wait(page, "vonkel.strip.cards.length > 9 && vonkel.strip.fresh && document.getElementById('job').hidden")
    page.locator("[data-joint=forearm_L]").click()
    wait(page, "!document.getElementById('legend').hidden")
    shot("skin")
    station("shapes")
    page.evaluate("vonkel.setChannel('shapes', 'mouth open', 1, true)")
    page.evaluate("vonkel.plate.lookAt([0, 1.0, 0.1], 0.4)")
    shot("shapes")
    station("face")
    page.evaluate(
        "vonkel.values = {'eyes aim': {'move x': 0.35, 'move y': 0.12}}; vonkel.selectControl('eyes aim'); vonkel.plate.home(); vonkel.pose()"
    )
    shot("face")
    page.evaluate("vonkel.toRest()")
    station("trials")
    wait(page, "vonkel.strip.cards.length > 9")
    page.locator(".pose-card", has_text="crouch").click()
    shot("trials")
    station("handover")
    page.evaluate("vonkel.plate.home()")
    shot("handover")
    page.locator("#ledger-open").click()
    shot("ledger")


def main():
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as store:
        server = subprocess.Popen(
            [sys.executable, "-m", "vonkel.cli", "serve", "--demo", "--port", "8499", "--store", store]
        )
        try:
            for _ in range(200):
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
