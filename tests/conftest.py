"""What tests share: small bodies made by hand, the rigged demo (made once a run), a running server."""

from __future__ import annotations

import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import numpy as np
import pytest

from vonkel.core.character import Character, Joint
from vonkel.core.formats import read_character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.demo import DATA
from vonkel.steps import load_recipe, run_recipe

ROOT = Path(__file__).resolve().parent.parent


def tube(rings: int = 17, around: int = 16, radius: float = 0.1, length: float = 1.0, axis: int = 1) -> RawMesh:
    """A closed tube along an axis: quads, and fans at both ends."""
    a = np.linspace(0, 2 * np.pi, around, endpoint=False)
    circle = np.stack([radius * np.cos(a), 0 * a, -radius * np.sin(a)], 1)
    points = np.concatenate([*(circle + [0, y, 0] for y in np.linspace(0, length, rings)), [[0, 0, 0], [0, length, 0]]])
    quads = [
        [r * around + i, r * around + (i + 1) % around, (r + 1) * around + (i + 1) % around, (r + 1) * around + i]
        for r in range(rings - 1) for i in range(around)
    ]  # fmt: skip
    last = (rings - 1) * around
    fans = [[rings * around, (i + 1) % around, i] for i in range(around)]
    fans += [[rings * around + 1, last + i, last + (i + 1) % around] for i in range(around)]
    faces = quads + fans
    sizes = [len(f) for f in faces]
    points = np.roll(points, axis - 1, axis=1)
    return RawMesh(points, np.r_[0, np.cumsum(sizes)], np.concatenate(faces), np.zeros(len(faces), np.int64), ["body"])


@pytest.fixture(scope="session")
def tube_character() -> Character:
    """A tube along Y with a chain of three joints in it."""
    c = character_from_mesh(tube(), "tube")
    joints = [
        Joint(name=f"tail_{i + 1}", parent=f"tail_{i}" if i else None, place=(0.0, y, 0.0), role=f"tail_{i + 1}")
        for i, y in enumerate((0.05, 0.4, 0.75))
    ]
    from vonkel.core.joints.orient import turn_down_bones

    return turn_down_bones(c.with_(joints=tuple(joints)))


@pytest.fixture(scope="session")
def otter_mesh() -> Character:
    return read_character("otter.obj", (DATA / "otter.obj").read_bytes(), "Lutra")


@pytest.fixture(scope="session")
def otter(otter_mesh: Character) -> Character:
    """Lutra with plan, kits, skin and her open mouth."""
    from vonkel.core.shapes import add_shape

    opened = otter_mesh.points.copy()
    body = otter_mesh.part("body").points
    opened[body[0] : body[1]] = read_character("open.obj", (DATA / "otter-mouth-open.obj").read_bytes()).points
    rigged, _ = run_recipe(otter_mesh, load_recipe("biped"))
    return add_shape(rigged, "mouth open", opened)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--whole", action="store_true", help="also what takes long and is otherwise sampled")


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line(
        "markers", "sampled(n): takes long on each of its cases; n of them run unless --whole is given"
    )


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Files that drive a browser come first: what is short fills up the time that is left on either core.  Of what takes
    long on many cases, the first and others evenly between."""
    items.sort(key=lambda item: "web/test_browser" not in str(item.path))
    if config.getoption("--whole"):
        return
    cases: dict[str, list[pytest.Item]] = {}
    for item in items:
        if item.get_closest_marker("sampled"):
            cases.setdefault(item.nodeid.split("[")[0], []).append(item)
    left_out: list[pytest.Item] = []
    for several in cases.values():
        wanted = several[0].get_closest_marker("sampled").args[0]
        kept = {i * len(several) // wanted for i in range(wanted)}
        left_out += [item for i, item in enumerate(several) if i not in kept]
    if left_out:
        config.hook.pytest_deselected(items=left_out)
        gone = set(left_out)
        items[:] = [item for item in items if item not in gone]


@pytest.fixture(scope="session")
def whole(pytestconfig: pytest.Config) -> bool:
    """Whether everything is to be tried at its full length."""
    return pytestconfig.getoption("--whole")


class Server:
    """A running `vonkel serve` on a store of its own."""

    def __init__(self, store: Path, demo: bool = False) -> None:
        self.store, self.demo = store, demo
        self.start()

    def start(self) -> None:
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        command = [sys.executable, "-m", "vonkel.cli", "serve", "--port", str(self.port), "--store", str(self.store)]
        self.process = subprocess.Popen(
            command + (["--demo"] if self.demo else []), stdout=subprocess.DEVNULL, stderr=subprocess.STDOUT
        )
        for _ in range(300):
            try:
                urllib.request.urlopen(f"{self.base}/api/formats", timeout=1).read()
                return
            except OSError:
                time.sleep(0.1)
        raise RuntimeError("the server did not start")

    @property
    def base(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory):
    running = Server(tmp_path_factory.mktemp("store"), demo=True)
    yield running
    running.kill()


CHROMIUM = [
    *("--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-background-networking"),
    # Only WebGL goes through the drawing in software that stands for a GPU: pages and canvases are quicker without.
    *("--disable-gpu-rasterization", "--disable-accelerated-2d-canvas", "--disable-gpu-compositing"),
]


@pytest.fixture(scope="session")
def browser():
    from playwright.sync_api import sync_playwright

    with sync_playwright() as p:
        chromium = p.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser, server):
    """A page of the running server; its console must stay clean."""
    from tests.web.page import Page

    made = Page(browser, server.base)
    yield made
    troubles, made.troubles = made.troubles, []
    made.page.close()
    assert troubles == []
