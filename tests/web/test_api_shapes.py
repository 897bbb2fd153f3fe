"""What the Shapes station asks the server for: targets in and out, maps, boards' pictures, live strokes."""

import io
import zipfile

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from tests.conftest import tube
from vonkel.core.character import Shape
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.formats.obj import read
from vonkel.core.handover import written
from vonkel.core.shapes import moves_of, with_shape
from vonkel.web.app import Settings, create_app


@pytest.fixture(scope="module")
def app(tmp_path_factory):
    return create_app(Settings(tmp_path_factory.mktemp("shapes")))


@pytest.fixture(scope="module")
def client(app):
    with TestClient(app, base_url="http://127.0.0.1:8321") as c:
        yield c


@pytest.fixture
def tall():
    c = character_from_mesh(tube(), "tube")
    up = np.where(c.points[:, 1:2] > 0.6, [0.0, 0.2, 0.0], 0.0)
    return with_shape(with_shape(c, Shape(name="tall"), up), Shape(name="wide"), c.points * [0.3, 0, 0.3])


@pytest.fixture
def number(app, tall):
    return app.state.workshop.add(tall, {}, "Brought in")


def step(client, number, name, params):
    said = client.post(f"/api/c/{number}/steps", json={"step": name, "params": params})
    assert said.status_code == 200, said.text


def state(client, number):
    return client.post(f"/api/c/{number}/changes", json={"have": {}}).json()


def test_a_glb_brings_all_of_its_targets(client, app, tall):
    bare = app.state.workshop.add(tall.with_(shapes=(), arrays=dict.fromkeys(n for n in tall.arrays if "shape/" in n)), {}, "Bare")  # fmt: skip
    glb = written(tall, ".glb")
    said = client.post(f"/api/c/{bare}/shape", files={"file": ("all.glb", glb)})
    assert said.status_code == 200, said.text
    got = app.state.workshop.character(bare)
    assert [s.name for s in got.shapes] == ["tall", "wide"]
    assert np.abs(moves_of(got, "wide") - moves_of(tall, "wide")).max() < 1e-6


def test_shapes_go_out_as_meshes(client, number, tall):
    data = client.get(f"/api/c/{number}/shapes/one.obj", params={"of": "tall"}).content
    assert np.abs(read("x.obj", data).points - tall.points - moves_of(tall, "tall")).max() < 1e-5
    pack = zipfile.ZipFile(io.BytesIO(client.get(f"/api/c/{number}/shapes/all.zip").content))
    assert pack.namelist() == ["rest.obj", "tall.obj", "wide.obj"]
    assert client.get(f"/api/c/{number}/shapes/one.obj", params={"of": "no"}).status_code == 404


def test_maps_say_what_moves_and_what_trespasses(client, number, tall):
    upper = np.flatnonzero(tall.points[:, 1] > 0.8)
    step(client, number, "regions.set", {"name": "top", "points": upper.tolist()})
    step(client, number, "shapes.set", {"shape": "tall", "region": "top"})

    def read_map(kind, of):
        answer = client.get(f"/api/c/{number}/shapes/map/{kind}", params={"of": of})
        return np.frombuffer(answer.content, np.float32)

    assert (read_map("moves", "tall") == (tall.points[:, 1] > 0.6)).all()
    assert (read_map("trespass", "tall") == ((tall.points[:, 1] > 0.6) & (tall.points[:, 1] <= 0.8))).all()
    assert (read_map("region", "top") == (tall.points[:, 1] > 0.8)).all()
    assert client.get(f"/api/c/{number}/shapes/map/nothing", params={"of": "tall"}).status_code == 422


def test_a_boards_pictures_are_drawn_anew_when_their_shapes_change(client, number):
    step(client, number, "boards.make", {"name": "b", "shapes": ["tall", "wide"]})
    pictures = state(client, number)["boards"]["value"][0]["pictures"]
    seals = {q["key"]: q["seal"] for q in pictures}
    shown = {}
    for key, seal in seals.items():
        answer = client.get(f"/api/c/{number}/boards/b/pictures/{key}", params={"v": seal})
        assert "immutable" in answer.headers["cache-control"]
        shown[key] = np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB")).astype(int)
    assert np.abs(shown["p1"] - shown["rest"]).max() > 60 and np.abs(shown["p1"] - shown["p2"]).max() > 60
    step(client, number, "shapes.scale", {"shape": "tall", "by": 0.5})
    now = {q["key"]: q["seal"] for q in state(client, number)["boards"]["value"][0]["pictures"]}
    assert now["p1"] != seals["p1"]
    png = io.BytesIO()
    Image.new("RGB", (6, 6), "#123456").save(png, "PNG")
    own = client.post(f"/api/c/{number}/boards/b/pictures/p1", files={"file": ("own.png", png.getvalue())})
    assert own.status_code == 200, own.text
    assert client.get(f"/api/c/{number}/boards/b/pictures/p1").content == png.getvalue()
    refused = client.post(f"/api/c/{number}/boards/b/pictures/p1", files={"file": ("own.png", b"<svg/>")})
    assert refused.status_code == 422 and "no PNG or JPEG" in refused.json()["error"]["what"]
    assert client.get(f"/api/c/{number}/boards/b/pictures/p9").status_code == 404


def test_what_a_bead_passes_over_is_told(client, number):
    step(client, number, "boards.make", {"name": "b", "shapes": ["tall", "wide"]})
    step(client, number, "boards.move", {"board": "b", "places": {"p1": [0, 0.1], "p2": [0, 1], "rest": [1, 0]}})
    ask = {"x0": 0, "y0": -1, "x1": 0, "y1": 1}
    assert client.get(f"/api/c/{number}/boards/b/passes", params=ask).json() == {"over": ["tall"]}
    assert client.get(f"/api/c/{number}/boards/b/passes", params={**ask, "y0": 0.5}).json() == {"over": []}
    assert client.get(f"/api/c/{number}/boards/b/passes", params={**ask, "x0": "nan"}).status_code == 422


def test_beads_are_kept_in_poses_and_unknown_ones_refused(client, number):
    step(client, number, "boards.make", {"name": "b", "shapes": ["tall"]})
    bead = {"board:b": {"across": 0.5, "up": 1.0}}
    assert client.post(f"/api/c/{number}/pose", json={"values": bead}).status_code == 200
    assert state(client, number)["pose"]["value"]["values"] == bead
    refused = client.post(f"/api/c/{number}/pose", json={"values": {"board:c": {"up": 1.0}}})
    assert refused.status_code == 422 and "no channel" in refused.json()["error"]["what"]


def test_live_strokes_show_what_the_step_then_keeps(client, app, number):
    """Every brush over the socket: the places that were told are those of the character once the step is done."""
    triangle = 200
    for kind in ("pull", "swell", "even", "back"):
        workshop = app.state.workshop
        at = workshop.store.position(number).step
        how = {"shape": "tall", "brush": kind, "radius": 0.3, "strength": 0.8, "pose": {"shapes": {"tall": 1.0}}}
        samples = [[triangle, 0.3, 0.3, 1, 0, 0, 0], [triangle, 0.3, 0.3, 1, 0.03, 0.0, 0.01]]
        head = {"kind": "samples", "stroke": 1, "brush": "sculpt", "step": at, "how": how}
        with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
            socket.send_json({"kind": "pose", "seq": 1, "step": at, "values": {"shapes": {"tall": 1.0}}})
            socket.receive_bytes()
            socket.send_json({**head, "first": 0, "samples": samples, "done": True})
            said, blocks = parsed(socket.receive_bytes())
        assert said["taken"] == 2
        step(client, number, "shapes.sculpt", {**how, "samples": samples})
        now = workshop.character(number)
        points = now.points + moves_of(now, "tall")
        index = blocks["at"].astype(int)
        assert len(index) > 10
        assert np.abs(points[index] - blocks["places"].reshape(-1, 3)).max() < 1e-6


def parsed(data):
    import json
    import struct

    _, size = struct.unpack("<II", data[:8])
    said, floats, out, first = json.loads(data[8 : 8 + size]), np.frombuffer(data, np.float32, offset=8 + size), {}, 0
    for name, count in said["blocks"]:
        out[name] = floats[first : first + count]
        first += count
    return said, out
