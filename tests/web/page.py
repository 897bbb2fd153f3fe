"""A browser's page with the few things that tests do on it."""

import time

from playwright.sync_api import Error

# Drawing the mesh without a GPU takes most of a frame, and what is asked here is seldom how it looks: every fourth frame.
SELDOM = """() => { const plate = window.vonkel?.plate; if (!plate) return;
  let frames = 0; const paint = plate.paint.bind(plate), mesh = plate.paintMesh.bind(plate);
  plate.paint = () => { frames++; paint(); };
  plate.paintMesh = (...where) => { if (frames % 4 === 1) mesh(...where); }; }"""


class Page:
    """A page with the few things the tests do on it.  painted: whether every frame is drawn whole."""

    painted = False

    def __init__(self, browser, base):
        self.page = browser.new_page(viewport={"width": 1280, "height": 800})
        self.base, self.troubles = base, []
        self.page.on("pageerror", lambda e: self.troubles.append(str(e)))
        self.page.on(
            "console", lambda m: self.troubles.append(m.text) if m.type == "error" and "409" not in m.text else None
        )

    def open(self, path):
        self.page.goto(f"{self.base}{path}{'?aa=0' if path.startswith('/c') else ''}")
        if not self.painted:
            self.js(SELDOM)

    def wait(self, expression, seconds=60):
        end = time.time() + seconds
        while time.time() < end:
            try:
                if self.js(f"(() => {{ try {{ return !!({expression}) }} catch {{ return false }} }})()"):
                    return
            except Error as error:  # the page is just being left for another
                if "destroyed" not in str(error):
                    raise
            self.page.wait_for_timeout(60)
        raise AssertionError(f"never came true: {expression}")

    def take_in(self, file, name):
        """A mesh brought in on the shelf, as far as its first look."""
        self.open("/")
        self.page.locator("input[type=file]").set_input_files(file)
        self.page.get_by_label("Name").fill(name)
        self.click("Bring in")
        self.page.wait_for_url("**/c/*/model")
        self.wait("vonkel.state && vonkel.plate.mesh")

    def js(self, expression, *arguments):
        return self.page.evaluate(expression, *arguments)

    def click(self, name):
        role = self.page.get_by_role
        role("button", name=name, exact=True).or_(role("tab", name=name, exact=True)).first.click()

    def station(self, key):
        self.page.locator(f".path [data-station={key}]").click()
        self.wait(f"vonkel.shownStation === '{key}'")
        self.laid_out()

    def laid_out(self):
        """Wait until the plate has the room that the page gives it: strips and sheets come and go."""
        self.wait(
            "vonkel.strip.shown && vonkel.plate.width === vonkel.plate.stage.clientWidth && vonkel.plate.high === vonkel.plate.stage.clientHeight && !vonkel.plate.pending"
        )

    def state(self, expression):
        return self.js(f"vonkel.state.{expression}")

    def drag(self, start, by, steps=8):
        mouse = self.page.mouse
        mouse.move(*start)
        mouse.down()
        mouse.move(start[0] + by[0], start[1] + by[1], steps=steps)
        mouse.up()
        self.answered()

    def answered(self):
        """Wait until every wish has been answered, and what was dragged is stored and shown."""
        self.wait("vonkel.live.idle")
        self.js("Promise.resolve(vonkel.settling).then(() => vonkel.queue ?? null).then(() => true)")
        self.wait("vonkel.live.idle")

    def joint_at(self, view, joint):
        return self.js(
            """([view, name]) => { const p = vonkel.plate, b = p.stage.getBoundingClientRect();
            const q = p.project(view, p.jointPlace(p.index.get(name))); return [q[0] + b.left, q[1] + b.top]; }""", [view, joint],
        )  # fmt: skip

    def control_at(self, view, control):
        """A place on the control's line where the plate would pick this very control."""
        return self.js(
            """([view, name]) => { const p = vonkel.plate, b = p.stage.getBoundingClientRect(), i = p.controls.findIndex(c => c.name === name);
            const at = p.controlLine(i).map(v => p.project(view, v)).find(q => p.nearestControl(view, q[0], q[1]) === i
              && document.elementFromPoint(q[0] + b.left, q[1] + b.top)?.closest('[data-view]'));
            return [at[0] + b.left, at[1] + b.top]; }""", [view, control],
        )  # fmt: skip

    def at(self, view, place):
        """Where on the screen a place of the world lies in a drawing."""
        return self.js(
            """([view, place]) => { const p = vonkel.plate, b = p.stage.getBoundingClientRect(), q = p.project(view, place);
            return [q[0] + b.left, q[1] + b.top]; }""", [view, place],
        )  # fmt: skip

    def quiet(self):
        """Wait until no job and no step is under way."""
        self.wait("document.getElementById('job').hidden")
        self.js("(vonkel.queue ?? Promise.resolve()).then(() => true)")

    def read(self, path):
        return self.page.request.get(f"{self.base}{path}")

    def post(self, path):
        return self.page.request.post(f"{self.base}{path}").json()

    def bring_in(self, name, data):
        """A mesh of one's own as a new character; its number."""
        file = {"name": name, "mimeType": "application/octet-stream", "buffer": data}
        return self.page.request.post(f"{self.base}/api/characters", multipart={"file": file}).json()["number"]
