"""A new measure, way to bind, reading or format is one function and its registration: a dummy of each is seen where riggers
look (the card, the report, the page, the command line, the reference)."""

import json

import numpy as np
import pytest
from fastapi.testclient import TestClient
from typer.testing import CliRunner

from vonkel.cli import app as cli
from vonkel.core.character import Joint
from vonkel.core.formats import FORMATS, Format, read_character
from vonkel.core.handover import written
from vonkel.core.skin.bind import BINDINGS, Binding
from vonkel.core.trials import run_trials
from vonkel.core.trials.measures import MEASURES, Found, measure
from vonkel.demo import DATA, READY
from vonkel.readings import READINGS, Reading
from vonkel.steps import apply_step
from vonkel.web.app import Settings, create_app
from vonkel.workshop import Workshop


@pytest.fixture
def dummies():
    """One of each kind, gone again afterwards."""
    registries = (MEASURES, BINDINGS, READINGS, FORMATS)
    before = [dict(r) for r in registries]

    @measure("moon", "moon phase", "share", 0.5, "from memory")
    def _moon(figures, limit):
        return Found(0.25, 0.25 / limit, "a quarter of the moon", figures.stretch_point)

    def first(surface):
        out = np.zeros((int(surface.soft.sum()), len(surface.bones)))
        out[:, 0] = 1.0
        return out

    BINDINGS["first"] = Binding("by the first bone", "for the test", first)
    READINGS["greeting"] = Reading("says hello", lambda c: {"hello": c.name})
    FORMATS[".dot"] = Format(
        "points as text", "text/plain", write=lambda s: f"{len(s.polygons.points)} points".encode()
    )
    yield
    for registry, kept in zip(registries, before, strict=True):
        registry.clear()
        registry.update(kept)


def said(*words):
    answer = CliRunner().invoke(cli, list(words))
    assert answer.exit_code == 0, answer.output
    return json.loads(answer.stdout)


def test_a_dummy_of_each_kind_is_seen_everywhere(dummies, otter, tmp_path):
    card = run_trials(otter, pictures=False)[0].as_dict()
    assert {
        "key": "moon",
        "title": "moon phase",
        "unit": "share",
        "value": 0.25,
        "limit": 0.5,
        "share": 0.5,
    }.items() <= next(m for m in card["measures"] if m["key"] == "moon").items()
    bound, sentence = apply_step(otter, "skin.bind", {"by": "first"})
    assert sentence == "Bound the skin by the first bone, 4 influences a point"
    part = otter.part("body")
    held = bound.arrays["skin/joints"][slice(*part.points), 0]
    assert (held == held[0]).all()
    assert written(otter, ".dot") == f"{len(otter.points)} points".encode()
    assert "moon phase" in [m["title"] for m in said("measures")]
    assert "first" in [b["by"] for b in said("bindings")]
    assert {".dot"} <= {f["ending"] for f in said("formats") if f["writes"]}
    (tmp_path / "o.glb").write_bytes(written(otter, ".glb"))
    assert said("read", "greeting", str(tmp_path / "o.glb"))["hello"]
    shop = Workshop(tmp_path / "store")
    number = shop.bring_in(READY, (DATA / READY).read_bytes())
    client = TestClient(create_app(Settings(tmp_path / "store")), base_url="http://127.0.0.1")
    page = client.get("/docs").text
    for words in (
        "moon phase",
        "by the first bone",
        "says hello",
        "points as text",
        "joints.mirror",
        "/api/c/{number}/changes",
    ):
        assert words in page, words
    assert client.get(f"/api/c/{number}/export.dot").text.endswith("points")
    assert ".dot" in [f["ending"] for f in client.get("/api/formats").json()]


def test_the_reference_needs_no_network(tmp_path):
    client = TestClient(create_app(Settings(tmp_path)), base_url="http://127.0.0.1")
    page = client.get("/docs")
    assert page.status_code == 200
    assert "http://" not in page.text.replace("http://www.w3.org", "") and "https://" not in page.text
    api = client.get("/api/openapi.json").json()
    assert "/api/c/{number}/steps" in api["paths"]


@pytest.mark.parametrize("by", ["volume", "nearest"])
def test_an_open_sheet_is_bound_by_every_way(by):
    """A flat sheet, open all round, has no volume to measure through: its own edges are the ways."""
    n = 12
    grid = np.stack(np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 0.3, n), indexing="ij"), -1).reshape(-1, 2)
    lines = [f"v {x:.4f} {y:.4f} 0.0" for x, y in grid]
    corners = [i * n + j + 1 for i in range(n - 1) for j in range(n - 1)]
    lines += [f"f {k} {k + n} {k + n + 1} {k + 1}" for k in corners]
    c = read_character("sheet.obj", "\n".join(lines).encode())
    joints = (
        Joint(name="a", place=(0, 0.15, 0)),
        Joint(name="b", parent="a", place=(0.5, 0.15, 0)),
        Joint(name="end", parent="b", place=(1, 0.15, 0), deforms=False),
    )
    c = c.with_(joints=joints)
    bound, _ = apply_step(c, "skin.bind", {"by": by, "smooth": 2})
    first = bound.arrays["skin/joints"][:, 0]
    names = np.array(bound.skin.joints)[first]
    left = c.points[:, 0] < 0.4
    assert (names[left] == "a").all() and (names[c.points[:, 0] > 0.6] == "b").all()


def test_every_way_over_http_is_described(tmp_path):
    api = create_app(Settings(tmp_path)).openapi()
    bare = [f"{m} {p}" for p, ways in api["paths"].items() for m, told in ways.items() if not told.get("description")]
    assert bare == []
