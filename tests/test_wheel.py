"""A wheel, installed into an empty environment, starts and has everything in it: demo, front end, licences."""

import json
import os
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
import venv
import zipfile

import pytest

from tests.conftest import ROOT


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """Built from a copy, so that nothing is left in the checkout."""
    folder = tmp_path_factory.mktemp("wheel")
    source = folder / "source"
    shutil.copytree(ROOT / "vonkel", source / "vonkel", ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "setup.py", "README.md"):
        shutil.copy(ROOT / name, source / name)
    command = [
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "--no-deps",
        "--no-build-isolation",
        "-q",
        "-w",
        str(folder),
        str(source),
    ]
    subprocess.run(command, check=True, capture_output=True)
    return next(folder.glob("vonkel-*.whl"))


def test_a_wheel_holds_what_it_needs(wheel):
    with zipfile.ZipFile(wheel) as z:
        names = set(z.namelist())
    for needed in (
        "vonkel/demo/data/crated.glb", "vonkel/demo/data/lutra-ready.vonkel", "vonkel/demo/data/otter.obj", "vonkel/store/schema.sql",
        "vonkel/store/migrations/002_archive_and_plans.sql", "vonkel/store/migrations/003_dropped.sql", "vonkel/steps/recipes/biped.json", "vonkel/web/templates/bench.html",
        "vonkel/web/static/js/bench.js", "vonkel/web/static/vendor/three/three.module.js", "vonkel/web/static/vendor/three/LICENSE",
        "vonkel/web/static/vendor/bootstrap/LICENSE", "vonkel/web/static/vendor/preact/LICENSE",
        "vonkel/web/static/vendor/fonts/fraunces-LICENSE",
        "vonkel/web/static/vendor/fonts/atkinson-LICENSE", "vonkel/web/static/vendor/fonts/atkinson-mono-LICENSE",
    ):  # fmt: skip
        assert needed in names, needed
    shipped = {n.split("/")[4] for n in names if n.startswith("vonkel/web/static/vendor/") and n.count("/") > 4}
    assert shipped == {"three", "bootstrap", "preact", "fonts"}  # each with its licence, above


def test_an_installed_wheel_starts_with_the_demo(wheel, tmp_path):
    place = tmp_path / "env"
    venv.create(place, with_pip=False)
    python = place / "bin/python"
    packages = next((place / "lib").glob("python*/site-packages"))
    with zipfile.ZipFile(wheel) as z:
        z.extractall(packages)
    theirs = subprocess.run([sys.executable, "-c", "import numpy, pathlib; print(pathlib.Path(numpy.__file__).parent.parent)"], capture_output=True, text=True, check=True).stdout.strip()  # fmt: skip
    environment = {
        **os.environ,
        "PYTHONPATH": theirs,
    }  # its dependencies; the checkout's own link file isn't read from there
    where = subprocess.run(
        [python, "-c", "import vonkel; print(vonkel.__file__)"],
        capture_output=True,
        text=True,
        env=environment,
        cwd=tmp_path,
    )
    assert str(packages) in where.stdout, where.stderr
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    command = [
        str(python),
        "-m",
        "vonkel.cli",
        "serve",
        "--demo",
        "--port",
        str(port),
        "--store",
        str(tmp_path / "store"),
    ]
    running = subprocess.Popen(
        command, env=environment, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    base = f"http://127.0.0.1:{port}"

    def get(path):
        return urllib.request.urlopen(base + path, timeout=60).read()

    try:
        for _ in range(600):
            try:
                get("/api/steps")
                break
            except OSError:
                time.sleep(0.1)
        assert b"Lutra, ready" in get("/")
        assert (
            b"THREE" in get("/static/vendor/three/three.core.js")
            or len(get("/static/vendor/three/three.module.js")) > 100_000
        )
        request = urllib.request.Request(f"{base}/api/demo?who=crated.glb", method="POST")
        number = json.loads(urllib.request.urlopen(request, timeout=60).read())["number"]
        assert json.loads(get(f"/api/c/{number}"))["counts"]["parts"] >= 1
    finally:
        running.kill()
        running.wait()
