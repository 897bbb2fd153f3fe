"""Devices that stream on this machine: a suit and a face, played by their stand-ins; what is heard is shown and kept."""

import json
import socket
import threading
import time

import numpy as np
import pytest

from tests.core.test_faces import made
from vonkel.core.errors import BadFile, BadParameters, NotFound, StepRefused
from vonkel.core.motion.clips import frames_of
from vonkel.core.retargeting.faces import FaceSaid, face_values
from vonkel.core.rig import compile_rig
from vonkel.demo import add_member
from vonkel.standins import Stage, face_lines, suit_lines
from vonkel.workshop import Workshop
from vonkel.workshop.listening import Listener
from vonkel.workshop.live import Session
from vonkel.workshop.messages import message_of

FAST = 240.0  # frames a second: the tests don't wait for a person


@pytest.fixture
def shop(tmp_path):
    return Workshop(tmp_path / "store")


@pytest.fixture
def suit():
    stage = Stage(suit_lines, 0, FAST, lambda line: line[:1].isdigit() or line[:1] == "-").start()
    yield stage
    stage.close()


@pytest.fixture
def face():
    stage = Stage(face_lines, 0, FAST, lambda line: True).start()
    yield stage
    stage.close()


def heard(listener, frames):
    end = time.time() + 20
    while len(listener.rows) < frames and time.time() < end:
        time.sleep(0.02)
    assert len(listener.rows) >= frames


def test_a_suit_moves_the_rig_as_it_speaks_and_is_kept_with_its_feet_planted(shop, suit):
    number = add_member(shop, "otter.obj")
    for step, params in (("joints.lay_plan", {"plan": "biped"}), ("limbs.outfit", {})):
        shop.apply(number, step, params)
    listener = shop.listen(number, "suit", suit.port)
    session, step = Session(shop, number), shop.store.position(number).step
    asked = {"kind": "heard", "step": step, "seq": 1}
    first = session.answer(message_of(asked))
    heard(listener, 400)
    later = session.answer(message_of(asked | {"seq": 2}))
    joints = [dict(f.blocks)["joints"] for f in (first, later)]
    assert later.said["heard"] >= 400 and np.abs(joints[0] - joints[1]).max() > 0.02
    heard(listener, 900)
    shop.keep_heard(number, "dance")
    c = shop.character(number)
    assert c.clips[-1].name == "dance" and len(frames_of(c, "dance")) > 200
    said = shop.store.ledger(number)[-1].sentence
    assert "feet stand" in said and float(said.split("slide ")[1].split("%")[0]) <= 0.5
    with pytest.raises(StepRefused):
        shop.keep_heard(number, "again")


def test_a_face_camera_moves_shapes_jaw_lids_and_gaze():
    c = made("otter")
    said = FaceSaid.of({"units": {"12": 0.7, "26": 1.0, "99": 1.0}, "gaze": [1, -0.5], "blink": 0.4})
    values = face_values(c, said)
    assert values["shapes"]["AU12 lip corner puller"] == 0.7
    assert values["jaw"]["open"] == 0.5 and values["lids_L"]["blink"] == values["lids_R"]["blink"] == 0.4
    assert values["eyes aim"]["move x"] > 0 > values["eyes aim"]["move y"]
    rest, now = compile_rig(c).evaluate({}), compile_rig(c).evaluate(values)
    assert np.abs(now.joints[c.joint_index["jaw"]] - rest.joints[c.joint_index["jaw"]]).max() > 0.01
    assert FaceSaid.of({"units": {"12": 99}, "gaze": [9, 0]}).units[12] == 2.0
    for broken in ({"units": {"x": 1}}, [], {"units": {"12": "much"}}):
        with pytest.raises((TypeError, ValueError, AttributeError)):
            FaceSaid.of(broken)


def test_a_face_is_kept_at_the_rate_of_the_work(shop, face, tmp_path):
    c = made("otter")
    listener = Listener("face", face.port).start()
    heard(listener, 300)
    listener.stop()
    frames = listener.faces(c, 24.0)
    assert len(frames) == pytest.approx(24 * listener.times[-1], abs=2)
    assert max(v["jaw"]["open"] for v in frames) > 0.05


def test_nobody_there_or_nonsense_is_refused_in_words():
    with pytest.raises(NotFound, match="Nobody speaks"):
        Listener("suit", 1).start()
    for kind, words in (("face", b"hello\n"), ("suit", b"HIERARCHY\nROOT a\nwhat\nMOTION\n1 2 3\n")):
        server = socket.create_server(("127.0.0.1", 0))

        def speak(server=server, words=words):
            line, _ = server.accept()
            line.sendall(words)
            time.sleep(0.5)
            line.close()

        threading.Thread(target=speak, daemon=True).start()
        with pytest.raises(BadFile):
            Listener(kind, server.getsockname()[1]).start()
        server.close()


def test_a_stand_in_on_a_port_that_is_taken_says_so(suit):
    with pytest.raises(BadParameters, match="taken"):
        Stage(suit_lines, suit.port, FAST, lambda line: True)


def test_what_a_face_says_is_json_with_units_by_number():
    lines = face_lines()
    for _ in range(200):
        said = json.loads(next(lines))
        assert all(0 <= v <= 1 for v in said["units"].values()) and set(said["units"]) <= {"1", "12", "18", "26"}
        FaceSaid.of(said)
