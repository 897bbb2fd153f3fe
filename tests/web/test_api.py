"""The web face: who may call, what comes back, how refusals look."""

import base64
import json
import struct

import numpy as np
import pytest
from fastapi.testclient import TestClient
from starlette.websockets import WebSocketDisconnect

from tests.conftest import tube
from tests.core.test_formats import BAD
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.handover import written
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.demo import DATA, READY
from vonkel.web.app import Settings, create_app
from vonkel.workshop import Workshop


@pytest.fixture
def client(tmp_path):
    return TestClient(create_app(Settings(tmp_path)), base_url="http://127.0.0.1:8321")


@pytest.fixture
def number(client):
    data = written(character_from_mesh(tube(), "tube"), ".obj")
    return client.post("/api/characters", files={"file": ("tube.obj", data)}).json()["number"]


def test_foreign_hosts_and_origins_are_refused(client):
    assert client.get("/").status_code == 200
    assert client.get("/", headers={"host": "rebound.example:8321"}).status_code == 403
    assert client.post("/api/compact", headers={"origin": "http://elsewhere.example"}).status_code == 403
    assert client.post("/api/compact", headers={"origin": "http://127.0.0.1:9999"}).status_code == 403
    assert client.post("/api/compact", headers={"origin": "http://127.0.0.1:8321"}).status_code == 200
    with (
        pytest.raises(WebSocketDisconnect),
        client.websocket_connect("ws://127.0.0.1:8321/live/1", headers={"origin": "http://elsewhere.example"}),
    ):
        pass


def test_too_large_bodies_are_refused_unread(client):
    said = client.post("/api/characters", content=b"x", headers={"content-length": str(10**10)})
    assert said.status_code == 413 and "more than Vonkel takes" in said.json()["error"]["what"]


def test_pages_carry_a_policy_and_escape_names(client):
    bad = "<img src=x onerror=alert(1)>"
    data = written(character_from_mesh(tube(), "tube"), ".obj")
    number = client.post("/api/characters", files={"file": ("t.obj", data)}, data={"name": bad}).json()["number"]
    for path in ("/", f"/c/{number}/joints"):
        page = client.get(path)
        assert bad not in page.text and "&lt;img" in page.text
        assert "default-src 'self'" in page.headers["content-security-policy"]
    assert client.get(f"/api/c/{number}/recipe.json").headers["content-disposition"].count("<") == 0


@pytest.mark.parametrize("what", BAD)
def test_bad_uploads_get_one_clear_error_and_leave_nothing(client, what):
    name, data, _ = BAD[what]
    said = client.post("/api/characters", files={"file": (name, data)})
    assert said.status_code in (413, 422) and said.json()["error"]["what"]
    assert client.app.state.workshop.store.characters() == []


def test_refusals_map_to_statuses(client, number):
    def step(**body):
        return client.post(f"/api/c/{number}/steps", json=body)

    assert step(step="no.such").status_code == 404
    assert step(step="joints.move", params={"joint": "x", "place": [0, 0, 0]}).status_code == 404
    assert step(step="model.resize", params={"metres": 0}).status_code == 422
    assert step(step="model.resize", params={"metres": 2}, position={"step": 999, "pose": 0}).status_code == 409
    assert step(step="model.resize", params={"metres": 2}, nonsense=1).status_code == 422
    assert client.get("/api/c/77").status_code == 404
    page = client.get("/c/77/model", headers={"accept": "text/html"})
    assert page.status_code == 404 and "no such character" in page.text
    assert client.get(f"/c/{number}/nowhere").status_code == 404


def test_state_mesh_and_undo(client, number):
    state = client.get(f"/api/c/{number}").json()
    assert state["counts"]["points"] == 274 and state["can_undo"] is False and state["stations"][0]["state"] == "full"
    raw = client.get(f"/api/c/{number}/mesh/{state['mesh']}")
    assert "immutable" in raw.headers["cache-control"]
    size = struct.unpack("<I", raw.content[:4])[0]
    head = json.loads(raw.content[4 : 4 + size])
    assert head == {"points": 274, "triangles": 544, "lines": 0, "corners": 0, "uvs": False}
    at = {"position": state["position"]}
    moved = client.post(f"/api/c/{number}/steps", json={"step": "model.resize", "params": {"metres": 2.0}, **at}).json()
    assert client.get(f"/api/c/{number}").json()["height"] == pytest.approx(2.0)
    assert client.post(f"/api/c/{number}/undo", json=at).status_code == 409
    assert client.post(f"/api/c/{number}/undo", json=moved).json()["position"] == state["position"]
    rows = client.get(f"/api/c/{number}/ledger").json()["rows"]
    assert [r["undone"] for r in rows] == [False, True] and rows[1][
        "sentence"
    ] == "Set the height to 200 cm: everything × 2"


def test_shapes_with_another_point_count_are_told(client, number):
    data = written(character_from_mesh(tube(9), "short"), ".obj")
    said = client.post(f"/api/c/{number}/shape", files={"file": ("s.obj", data)}, data={"name": "nod"})
    assert said.status_code == 422 and "146 points, the character 274" in said.json()["error"]["what"]


def test_a_shape_of_one_part_moves_that_part(otter_mesh):
    from vonkel.core.shapes import moved_whole

    for name in ("eye left", "eye right", "tongue"):
        lo, hi = otter_mesh.part(name).points
        moved = moved_whole(otter_mesh, otter_mesh.points[lo:hi] + [0, 0.001, 0])
        far = np.abs(moved - otter_mesh.points).max(1)
        assert (far[lo:hi] > 0).all() and far[:lo].max() == 0 and (hi == len(far) or far[hi:].max() == 0)


@pytest.fixture(scope="module")
def posed(tmp_path_factory, otter):
    app = create_app(Settings(tmp_path_factory.mktemp("live")))
    number = app.state.workshop.add(otter, {}, "Brought in")
    with TestClient(app, base_url="http://127.0.0.1:8321") as client:
        yield client, number, app.state.workshop.store.position(number).step


def read_frame(data, otter):
    """Its number, what is said, points, joints, and what comes after: controls, or the heat where there are none."""
    sequence, size = struct.unpack("<II", data[:8])
    said, floats = json.loads(data[8 : 8 + size]), np.frombuffer(data, np.float32, offset=8 + size)
    names, counts = zip(*said["blocks"], strict=True)
    blocks = dict(zip(names, np.split(floats, np.cumsum(counts)[:-1]), strict=True))
    rest = blocks["controls"] if said["controls"] else blocks["heat"]
    return sequence, said, blocks["points"].reshape(-1, 3), blocks["joints"].reshape(-1, 3, 4), rest


def test_live_frames_are_what_the_core_computes(posed, otter):
    client, number, step = posed
    values = {"hand_L": {"move y": 0.2}, "shapes": {"mouth open": 0.5}}
    expected = Deformer(otter).deform(compile_rig(otter).evaluate(values)).copy()
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        socket.send_text(json.dumps({"seq": 5, "step": step, "kind": "pose", "values": values}))
        sequence, said, points, joints, rest = read_frame(socket.receive_bytes(), otter)
        assert sequence == 5 and np.array_equal(points, expected) and len(rest) == 12 * len(otter.controls)
        to = [0.35, 0.6, 0.2]
        socket.send_text(
            json.dumps({"seq": 6, "step": step, "kind": "move", "control": "hand_L", "to": to, "values": {}})
        )
        _, said, _, joints, controls = read_frame(socket.receive_bytes(), otter)
        names = list(compile_rig(otter).control_names)
        frame = controls.reshape(-1, 3, 4)[names.index("hand_L")]
        assert np.allclose(frame[:, 3], to, atol=1e-6) and set(said["values"]["hand_L"]) == {
            "move x",
            "move y",
            "move z",
        }
        socket.send_text(json.dumps({"seq": 7, "step": step, "kind": "trial", "name": "sit", "heat": True}))
        _, said, _, _, rest = read_frame(socket.receive_bytes(), otter)
        assert said["controls"] == 0 and len(rest) == len(otter.points) and 0 < rest.max() <= 1
        socket.send_text(json.dumps({"seq": 8, "step": step, "kind": "joint", "joint": "forearm_L", "to": [9, 9, 9]}))
        data = socket.receive_bytes()
        places = json.loads(data[8:])["places"]
        assert (
            np.allclose(np.array(places["forearm_L"]) * [-1, 1, 1], places["forearm_R"])
            and max(places["forearm_L"]) < 2
        )


def test_live_refuses_nonsense_and_goes_on(posed, otter):
    client, number, step = posed
    bad = ["[]", "{", '{"seq": -1}', '{"step": "x"}', json.dumps({"step": step, "kind": "move", "control": "nobody", "to": [0, 0, 0]}),
           json.dumps({"step": step, "kind": "move", "control": "hand_L", "to": [1e99, 0, "a"]}), json.dumps({"step": step, "kind": "trial", "name": "fly"})]  # fmt: skip
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        for text in bad:
            socket.send_text(text)
            if text not in ("[]", "{"):
                assert json.loads(socket.receive_text())["error"]["what"]
        socket.send_text(json.dumps({"seq": 9, "step": step, "kind": "pose", "values": {"hand_L": {"move y": "NaN"}}}))
        assert read_frame(socket.receive_bytes(), otter)[0] == 9


def test_a_drag_never_queues_up(server, otter):
    """Three hundred wishes sent at once to a real server: few frames come back, and the last is of the newest wish."""
    from websockets.sync.client import connect

    shop = Workshop(server.store)
    number = shop.add(otter, {}, "Brought in")
    step = shop.store.position(number).step
    with connect(f"ws://127.0.0.1:{server.port}/live/{number}", compression=None, max_size=None) as socket:
        for i in range(1, 301):
            socket.send(
                json.dumps({"seq": i, "step": step, "kind": "pose", "values": {"hand_L": {"move y": i / 1000}}})
            )
        frames = []
        while not frames or frames[-1] != 300:
            frames.append(read_frame(socket.recv(timeout=20), otter)[0])
    assert frames == sorted(frames) and len(frames) < 150


def test_trials_run_as_a_job_and_stay(posed):
    client, number, _ = posed
    job = client.post(f"/api/c/{number}/trials").json()["job"]
    assert client.app.state.jobs.get(job["id"]).over.wait(60)
    assert client.get(f"/api/jobs/{job['id']}").json()["state"] == "done"
    cards = client.get(f"/api/c/{number}/trials").json()
    assert (
        cards["fresh"]
        and len(cards["cards"]) >= 10
        and base64.b64decode(cards["cards"][0]["picture"])[:4] == b"\x89PNG"
    )
    report = client.get(f"/api/c/{number}/report.json").json()
    assert report["trials_are_of_this_state"] and "picture" not in report["trials"][0]


def test_a_page_is_told_only_what_it_doesnt_have(client, tmp_path):
    """Slices by hash: after a joint was moved the finished biped's page learns a few rows, under 10 kB; merged they are
    the whole state."""
    number = client.post("/api/characters", files={"file": (READY, (DATA / READY).read_bytes())}).json()["number"]
    first = client.post(f"/api/c/{number}/changes", json={}).json()
    have = {n: s["tag"] for n, s in first.items()}
    assert client.post(f"/api/c/{number}/changes", json={"have": have}).json() == {}
    whole = client.get(f"/api/c/{number}").json()
    said = {n: s["value"] for n, s in first.items()}
    controls = [a | b for a, b in zip(said["controls"], said.pop("lines"), strict=True)]
    assert said.pop("keys") == []
    assert {**said.pop("head"), **said, "controls": controls} == whole
    place = next(j["place"] for j in whole["joints"] if j["name"] == "forearm_L")
    body = {
        "step": "joints.move", "params": {"joint": "forearm_L", "place": [place[0], place[1] + 0.01, place[2]]},
        "position": whole["position"],
    }  # fmt: skip
    assert client.post(f"/api/c/{number}/steps", json=body).status_code == 200
    answer = client.post(f"/api/c/{number}/changes", json={"have": have})
    assert len(answer.content) < 10_000
    told = answer.json()
    assert set(told["joints"]["rows"]) >= {"forearm_L", "forearm_R"} and "order" not in told["joints"]
    now = client.get(f"/api/c/{number}").json()
    for name, slice_ in told.items():
        if "rows" in slice_:
            merged = [slice_["rows"].get(r["name"], r) for r in first[name]["value"]]
            kept = [
                {k: v for k, v in row.items() if k in merged[0]} for row in now["controls" if name == "lines" else name]
            ]
            assert merged == kept


def test_of_a_dense_motion_only_the_tracks_that_changed_are_told(client):
    """A walk in many keys is large; a key that is set costs the page its own track."""
    number = client.post("/api/characters", files={"file": (READY, (DATA / READY).read_bytes())}).json()["number"]

    def step(name, params):
        position = client.get(f"/api/c/{number}").json()["position"]
        body = {"step": name, "params": params, "position": position}
        assert client.post(f"/api/c/{number}/steps", json=body).status_code == 200

    step("motion.walk", {"rate": 60})
    step("motion.make_keys", {"clip": "walk", "share": 1e-5})
    first = client.post(f"/api/c/{number}/changes", json={}).json()
    whole = client.get(f"/api/c/{number}").json()["clips"][0]
    assert len(json.dumps(first["keys"])) > 10_000
    rows = [[i, *key] for i, track in enumerate(first["keys"]["value"]) for key in track["keys"]]
    assert rows == whole["keys"] and len(first["keys"]["value"]) == len(whole["tracks"])
    at = whole["keys"][40]
    step("keys.set", {"clip": "walk", "keys": [{"track": at[0], "frame": at[1], "value": at[2] + 0.01}]})
    told = client.post(f"/api/c/{number}/changes", json={"have": {n: s["tag"] for n, s in first.items()}}).json()
    assert len(told["keys"]["rows"]) == 1 and "order" not in told["keys"] and "clips" not in told
    assert len(json.dumps(told["keys"])) < 0.25 * len(json.dumps(first["keys"]))


def test_rows_that_come_and_go_are_told_with_their_order(client):
    number = client.post("/api/characters", files={"file": (READY, (DATA / READY).read_bytes())}).json()["number"]
    first = client.post(f"/api/c/{number}/changes", json={}).json()
    body = {"step": "limbs.remove_kit", "params": {"kit": "tail"}, "position": first["head"]["value"]["position"]}
    assert client.post(f"/api/c/{number}/steps", json=body).status_code == 200
    told = client.post(f"/api/c/{number}/changes", json={"have": {n: s["tag"] for n, s in first.items()}}).json()
    now = client.get(f"/api/c/{number}").json()
    assert told["controls"]["order"] == [c["name"] for c in now["controls"]]
    assert len(told["controls"]["rows"]) < 5
