"""Odd requests: each gets one answer in words, files that belong together arrive together, and nothing falls over."""

import json

import numpy as np
import pytest
from fastapi.testclient import TestClient

from tests.core.test_reading import parted, zipped
from tests.fuzz.seeds import gltf_json, rigged
from vonkel.core.errors import Failure
from vonkel.steps.registry import STEPS
from vonkel.web import guard
from vonkel.web.app import Settings, create_app


@pytest.fixture
def client(tmp_path):
    with TestClient(
        create_app(Settings(tmp_path)), base_url="http://127.0.0.1:8321", raise_server_exceptions=False
    ) as c:
        yield c


@pytest.fixture
def number(client):
    return client.app.state.workshop.add(rigged(), {}, "Made")


@pytest.mark.parametrize(
    "origin", ["http://[", "http://", "null", "http://127.0.0.1:1", "http://[::1", "//127.0.0.1:8321", "\x7f"]
)
def test_origins_that_are_none_are_refused_in_words(client, number, origin):
    said = client.post(f"/api/c/{number}/undo", json={}, headers={"origin": origin})
    assert said.status_code == 403
    assert "own pages" in said.json()["error"]["what"]


def test_what_is_typed_may_not_be_as_large_as_a_file(client, number):
    large = b'{"step": "model.rename", "params": {"name": "' + b"x" * (guard.MAX_JSON + 10) + b'"}}'
    said = client.post(f"/api/c/{number}/steps", content=large, headers={"content-type": "application/json"})
    assert said.status_code == 413
    assert "more than Vonkel takes" in said.json()["error"]["what"]
    files = [("file", ("a.obj", b"#" * (guard.MAX_JSON + 10) + b"\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"))]
    assert client.post("/api/characters", files=files).status_code == 200  # a file may


def test_half_letters_are_refused_in_words(client, number):
    for body in (
        {"step": "\ud800"},
        {"step": "model.rename", "params": {"name": "\ud800"}},
        {"step": "model.rename", "params": {"\udfff": 1}},
    ):
        said = client.post(
            f"/api/c/{number}/steps", content=json.dumps(body), headers={"content-type": "application/json"}
        )
        assert 400 <= said.status_code < 500
        assert said.json()["error"]["what"]
    values = {"values": {"\ud800": {"turn x": 1.0}}, "label": "\ud800"}
    said = client.post(
        f"/api/c/{number}/pose", content=json.dumps(values), headers={"content-type": "application/json"}
    )
    assert 400 <= said.status_code < 500 and said.json()["error"]["what"]


def test_what_nobody_foresaw_is_said_in_words_and_changes_nothing(client, number, monkeypatch):
    from dataclasses import replace

    def falls(character, params):
        raise ZeroDivisionError("oops")

    monkeypatch.setitem(STEPS, "model.stand", replace(STEPS["model.stand"], run=falls))
    said = client.post(f"/api/c/{number}/steps", json={"step": "model.stand", "params": {}})
    assert said.status_code == Failure.status == 500
    assert said.json()["error"]["what"] == "Something went wrong inside Vonkel."
    assert len(client.app.state.workshop.store.ledger(number)) == 1
    monkeypatch.setattr(type(client.app.state.workshop.store), "ledger", falls)
    said = client.get(f"/api/c/{number}/ledger")
    assert said.status_code == 500
    assert "oops" not in said.text and "inside Vonkel" in said.json()["error"]["what"]


def test_files_that_belong_together_arrive_together(client):
    text, data = parted(json.loads(gltf_json()))
    both = [("file", ("its data.bin", data)), ("file", ("strip.gltf", text))]
    made = client.post("/api/characters", files=both)
    assert made.status_code == 200
    number = made.json()["number"]
    state = client.get(f"/api/c/{number}").json()
    assert (state["name"], state["counts"]["points"]) == ("strip", 8)
    packed = client.post(
        "/api/characters", files=[("file", ("s.zip", zipped({"a/strip.gltf": text, "a/its data.bin": data})))]
    )
    assert client.get(f"/api/c/{packed.json()['number']}").json()["counts"]["points"] == 8
    more = client.post(f"/api/c/{number}/parts", files=both, data={"step": "0"})
    assert more.status_code == 200
    assert client.get(f"/api/c/{number}").json()["counts"]["points"] == 16
    alone = client.post("/api/characters", files=[("file", ("strip.gltf", text))])
    assert alone.status_code == 422
    assert "drop both together" in alone.json()["error"]["todo"]
    two = client.post("/api/characters", files=[("file", ("a.obj", b"v")), ("file", ("b.obj", b"v"))])
    assert "several meshes" in two.json()["error"]["what"]
    none = client.post("/api/characters", files=[("file", ("", b""))])
    assert 400 <= none.status_code < 500


def test_a_name_of_any_letters_is_taken_for_a_new_character(client):
    mesh = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
    for name, kept in (("Fox / v2", "Fox   v2"), ("a\nb", "a b"), ("a\\b", "a b")):
        number = client.post("/api/characters", files=[("file", ("m.obj", mesh))], data={"name": name}).json()["number"]
        assert client.get(f"/api/c/{number}").json()["name"] == kept
    assert client.get("/", headers={"accept": "text/html"}).status_code == 200
    refused = client.post("/api/c/1/steps", json={"step": "model.rename", "params": {"name": "Fox / v2"}})
    assert refused.status_code == 422 and "can't have /" in refused.json()["error"]["what"]
    again = TestClient(
        create_app(Settings(client.app.state.workshop.store.path.parent)), base_url="http://127.0.0.1:8321"
    )
    assert again.get("/api/c/1").status_code == 200


def test_the_live_socket_outlives_any_number(client, number):
    step = client.app.state.workshop.store.position(number).step
    control = client.app.state.workshop.character(number).controls[0].name
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:

        def ask(**message):
            socket.send_text(json.dumps(message))
            answer = socket.receive()
            return json.loads(answer["text"]) if answer.get("text") else answer["bytes"]

        huge = 2**70
        odd = [
            {"kind": "pose", "step": huge}, {"kind": "pose", "step": step, "seq": huge},
            {"kind": "pose", "step": step, "values": {control: {"turn x": huge * 10**300}}},
            {"kind": "move", "step": step, "control": control, "to": [huge * 10**300, 0, 0]},
            {"kind": "move", "step": step, "control": control, "to": [True, None, "x"]},
            {"kind": "turn", "step": step, "control": "nobody", "by": [1, 0, 0, 0]},
            {"kind": "joint", "step": step, "joint": "nobody", "to": [0, 0, 0]}, {"kind": "trial", "step": step, "name": "\ud800"},
            {"kind": "motion", "step": step, "frame": huge}, {"step": step, "values": [], "off": {}, "kind": ["x"]},
        ]  # fmt: skip
        for message in odd:
            answer = ask(**message)
            if isinstance(answer, dict):
                assert answer["error"]["what"]
                assert "inside Vonkel" not in answer["error"]["what"], message
        assert isinstance(ask(kind="pose", step=step, seq=1, values={}), bytes)  # it still answers


def test_a_failure_in_a_live_wish_ends_neither_socket_nor_session(client, number, monkeypatch):
    from vonkel.web.routes import live

    step = client.app.state.workshop.store.position(number).step
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        with monkeypatch.context() as patch:
            patch.setattr(live.Session, "answer", lambda self, asked: 1 / 0)
            socket.send_text(json.dumps({"kind": "pose", "step": step, "seq": 1}))
            assert "inside Vonkel" in json.loads(socket.receive_text())["error"]["what"]
        socket.send_text(json.dumps({"kind": "pose", "step": step, "seq": 2}))
        assert np.frombuffer(socket.receive_bytes()[:4], np.uint32)[0] == 2
