"""The live socket's two lanes: of a frame only what moved is sent, and of a brush's places none is lost, doubled or out of order."""

import json
import struct
import time

import numpy as np
import pytest
from fastapi.testclient import TestClient

from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.web.app import Settings, create_app
from vonkel.workshop.live import BRUSHES


@pytest.fixture(scope="module")
def rigged(tmp_path_factory, otter):
    app = create_app(Settings(tmp_path_factory.mktemp("lanes")))
    number = app.state.workshop.add(otter, {}, "Brought in")
    with TestClient(app, base_url="http://127.0.0.1:8321") as client:
        yield client, number, app.state.workshop.store.position(number).step


@pytest.fixture
def dust():
    """A brush that only writes down what it was given, batch by batch."""
    batches = []

    def put(session, stroke, samples):
        batches.append([int(v) for (v,) in samples])
        time.sleep(0.002)  # slower than the page sends
        return {"sum": sum(int(v) for (v,) in stroke.samples)}, ()

    BRUSHES["dust"] = put
    yield batches
    del BRUSHES["dust"]


def frame(data):
    """(what is said, the blocks by name)."""
    _, size = struct.unpack("<II", data[:8])
    said, at = json.loads(data[8 : 8 + size]), 8 + size
    blocks = {}
    for name, count in said["blocks"]:
        blocks[name] = np.frombuffer(data, np.float32, count, at)
        at += 4 * count
    return said, blocks


def ask(socket, seq, step, values, knows=0):
    message = {"seq": seq, "step": step, "kind": "pose", "values": values, "knows": knows}
    socket.send_text(json.dumps(message))
    return frame(socket.receive_bytes())


def test_only_what_moved_is_sent_and_it_is_what_a_whole_frame_says(rigged, otter):
    client, number, step = rigged
    deformer, program = Deformer(otter), compile_rig(otter)
    # The lamplighter's left hand, then the head as well, then all of it.
    poses = [{}, {"fingers_L": {"curl": 0.6}}, {"fingers_L": {"curl": 0.6}, "head": {"turn y": 0.4}}, {}]
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        held, sizes = None, []
        for i, values in enumerate(poses):
            said, blocks = ask(socket, i + 1, step, values, knows=i)
            if "ranges" in said:
                held = held.copy()
                at = 0
                for first, count in zip(said["ranges"][::2], said["ranges"][1::2], strict=True):
                    held[first : first + count] = blocks["points"].reshape(-1, 3)[at : at + count]
                    at += count
            else:
                held = blocks["points"].reshape(-1, 3)
            sizes.append(blocks["points"].size / 3)
            want = deformer.deform(program.evaluate(values))
            assert np.array_equal(held, want.astype(np.float32))
    assert sizes[0] == len(otter.points)
    assert sizes[1] < 0.35 * len(otter.points), "fingers alone moved"


def test_a_page_that_knows_nothing_or_something_else_is_sent_all(rigged, otter):
    client, number, step = rigged
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        for seq, knows in ((1, 0), (2, 0), (3, 1), (4, 9)):
            said, blocks = ask(socket, seq, step, {}, knows)
            assert "ranges" not in said and blocks["points"].size == 3 * len(otter.points)
        said, blocks = ask(socket, 5, step, {}, 4)
        assert said["ranges"] == [] and blocks["points"].size == 0


def test_places_of_a_stroke_come_in_order_each_once_between_wishes(rigged, dust):
    client, number, step = rigged
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        wanted = 120
        for i in range(wanted):
            socket.send_text(json.dumps(samples(step, i, [[i]], done=i == wanted - 1)))
            if i % 10 == 0:  # wishes for frames are asked meanwhile; of those some are dropped
                socket.send_text(json.dumps({"seq": i + 1, "step": step, "kind": "pose", "values": {}}))
        told = {}
        while told.get("taken") != wanted:
            message = socket.receive()
            if "text" in message and message["text"]:
                told = json.loads(message["text"])
                assert "error" not in told
    assert [v for batch in dust for v in batch] == list(range(wanted))
    assert told == {"stroke": 1, "taken": wanted, "sum": sum(range(wanted))}


def samples(step, first, rows, stroke=1, done=False):
    return {
        "kind": "samples",
        "step": step,
        "stroke": stroke,
        "brush": "dust",
        "first": first,
        "samples": rows,
        "done": done,
    }


def test_what_was_sent_twice_counts_once_and_a_gap_is_asked_for_again(rigged, dust):
    client, number, step = rigged
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:

        def send(first, rows):
            socket.send_text(json.dumps(samples(step, first, [[v] for v in rows])))
            return json.loads(socket.receive_text())["taken"]

        assert send(0, [0, 1, 2]) == 3
        assert send(0, [0, 1, 2, 3]) == 4
        assert send(6, [6, 7]) == 4  # 4 and 5 are missing: nothing is taken
        assert send(4, [4, 5, 6, 7]) == 8
    assert [v for batch in dust for v in batch] == list(range(8))


def test_nonsense_in_a_stroke_is_refused_and_the_socket_goes_on(rigged, dust):
    client, number, step = rigged
    good = samples(step, 0, [[1]])
    bad = [
        good | {"brush": "nobody"},
        good | {"samples": [["x"]]},
        good | {"samples": [[1e99]]},
        good | {"samples": [[0] * 99]},
        good | {"first": -1},
        good | {"stroke": "one"},
        good | {"step": 10**9},
    ]
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{number}") as socket:
        for message in bad:
            socket.send_text(json.dumps(message))
            assert json.loads(socket.receive_text())["error"]["what"], message
        socket.send_text(json.dumps(good))
        assert json.loads(socket.receive_text())["taken"] == 1
    assert dust == [[1]]
