"""What the Limbs station asks the server for, in and out of order; and the live socket's new kinds of messages."""

import json
import struct

import numpy as np
import pytest
from fastapi.testclient import TestClient

from vonkel.core.rig import compile_rig
from vonkel.demo import add_member
from vonkel.web.app import Settings, create_app


@pytest.fixture(scope="module")
def client(tmp_path_factory):
    app = create_app(Settings(tmp_path_factory.mktemp("rig")))
    with TestClient(app, base_url="http://127.0.0.1:8321") as c:
        yield c


@pytest.fixture(scope="module")
def larva(client):
    """Wick, planned, outfitted, with a spring down the chain."""
    shop = client.app.state.workshop
    number = add_member(shop, "larva.obj")
    for step, params in (
        ("joints.lay_plan", {"plan": "chain"}),
        ("limbs.outfit", {}),
        (
            "rules.add",
            {
                "rule": {
                    "kind": "spring",
                    "name": "wobble",
                    "things": ["joint:chain_9", "joint:chain_10"],
                    "damping": 0.1,
                }
            },
        ),
    ):
        shop.apply(number, step, params)
    return number


def ask(socket, **message):
    socket.send_text(json.dumps(message))
    answer = socket.receive()
    if "text" in answer and answer["text"]:
        return json.loads(answer["text"])
    data = answer["bytes"]
    size = struct.unpack("<I", data[4:8])[0]
    said = json.loads(data[8 : 8 + size])
    said["floats"] = np.frombuffer(data[8 + size :], np.float32)
    return said


def joint_place(client, number, said, name):
    c = client.app.state.workshop.character(number)
    at = 3 * len(c.points) + 12 * c.joint_index[name]
    return said["floats"][at : at + 12].reshape(3, 4)[:, 3]


def test_kits_say_what_they_want_and_suggestions_fill_them(client, larva):
    said = client.get("/api/kits").json()
    assert {"stance", "wing", "twist"} <= {k["kind"] for k in said["kits"]} and "leaf" in said["shapes"]
    post = lambda **body: client.post(f"/api/c/{larva}/suggest", json=body)  # noqa: E731
    assert len(post(kind="chain", joint="chain_1").json()["joints"]["chain"]) == 10
    assert post(kind="nonsense", joint="chain_1").status_code == 404
    assert post(kind="chain", joint="nobody").status_code == 404
    assert post(kind="whole", joint="").json()["joints"] == {}


def test_mirrored_poses_opposites_and_spaces_answer_in_words(client, larva):
    post = lambda path, **body: client.post(f"/api/c/{larva}/{path}", json=body)  # noqa: E731
    given = {"chain 2": {"move x": 0.1, "move z": 0.03, "turn y": 0.2}}
    swapped = post("mirror_pose", values=given).json()["values"]
    assert swapped["chain 2"] != given["chain 2"]
    c = client.app.state.workshop.character(larva)
    one, other = (compile_rig(c).evaluate(v) for v in (given, swapped))
    frame, image = (np.array(p.controls["chain 2"]).reshape(3, 4) for p in (one, other))
    rest = np.array(compile_rig(c).evaluate({}).controls["chain 2"]).reshape(3, 4)
    mirror = np.diag([-1.0, 1.0, 1.0])
    assert image[:, 3] == pytest.approx(mirror @ frame[:, 3], abs=1e-9)  # stands on the mirrored place
    turned, turned_over = (f[:, :3] @ rest[:, :3].T for f in (frame, image))
    assert np.allclose(turned_over, mirror @ turned @ mirror, atol=1e-9)  # and is turned the mirrored way
    assert post("mirror_pose", values={"chain 2": {"move x": "far"}}).status_code == 422
    assert client.get(f"/api/c/{larva}/opposite/chain 2").json() == {"control": "chain 2"}
    refused = post("space", rule="none", to="in ground")
    assert refused.status_code == 404 and "no such space" in refused.json()["error"]["what"]


def test_the_live_socket_drags_joints_plays_motions_and_runs_springs(client, larva):
    shop = client.app.state.workshop
    step = shop.store.position(larva).step
    with client.websocket_connect(f"ws://127.0.0.1:8321/live/{larva}") as socket:
        rest = joint_place(client, larva, ask(socket, seq=1, step=step, kind="pose"), "chain_10")
        goal = (rest + [0.04, 0.05, 0.0]).tolist()
        said = ask(socket, seq=2, step=step, kind="reach", joint="chain_10", to=goal, values={})
        assert joint_place(client, larva, said, "chain_10") == pytest.approx(goal, abs=1e-3)
        assert said["values"] and all(c.endswith(" turn") for c in said["values"])
        values = {"chain 2": {"turn x": 0.8}}
        frames = {}
        for i in (0, 20, 30, 20):
            said = ask(socket, seq=3, step=step, kind="motion", values=values, frame=i, frames=60, rate=24)
            assert said["frame"] == i
            frames.setdefault(i, []).append(joint_place(client, larva, said, "chain_10"))
        assert np.array_equal(*frames[20]) and np.abs(frames[20][0] - frames[0][0]).max() > 1e-3
        first = ask(socket, seq=4, step=step, kind="pose", values={}, run=True)
        ran = [ask(socket, seq=5, step=step, kind="pose", values=values, run=True) for _ in range(6)]
        assert ran[-1]["time"] > first["time"] and "time" not in ask(
            socket, seq=6, step=step, kind="pose", values=values
        )
        still = joint_place(client, larva, ask(socket, seq=7, step=step, kind="pose", values=values), "chain_10")
        line = next(o.sentence for o in compiled(shop, larva).operations if "lie along the curve" in o.sentence)
        off = ask(socket, seq=8, step=step, kind="pose", values=values, off=[line])
        assert np.abs(joint_place(client, larva, off, "chain_10") - still).max() > 1e-3
        for bad in (
            {"kind": "reach", "joint": "chain_10", "to": [0, 0]},
            {"kind": "reach", "joint": "nobody", "to": [0, 0, 0]},
            {"kind": "motion", "frame": 0, "frames": 1},
            {"kind": "motion", "frame": -3},
            {"kind": "move", "control": "nobody", "to": [0, 0, 0]},
        ):
            said = ask(socket, seq=9, step=step, values={}, **bad)
            assert said["error"]["what"]
        again = joint_place(client, larva, ask(socket, seq=10, step=step, kind="pose", values=values), "chain_10")
        assert np.array_equal(again, still)  # nothing of all that stays


def compiled(shop, number):
    from vonkel.core.rig import compile_rig

    return compile_rig(shop.character(number))


def test_rules_and_controls_refuse_what_does_not_fit(client, larva):
    def do(step, **params):
        done = client.post(f"/api/c/{larva}/steps", json={"step": step, "params": params})
        assert done.status_code in (404, 422), done.text
        return done.json()["error"]["what"]

    spring = {"kind": "spring", "name": "s", "things": ["joint:chain_9"]}
    assert "stiffness" in do("rules.add", rule=spring | {"stiffness": 1e9})
    assert "rule" in do("rules.add", rule={"kind": "magnet", "name": "m"})
    assert "no kit" in do("rules.add", rule=spring | {"kit": "nobody"})
    assert "no rule" in do("rules.remove", name="nobody") and "no rule" in do("rules.switch", name="nobody", on=True)
    assert "no control" in do("controls.shape", controls=["nobody"])
    assert "no shape" in do("controls.shape", controls=["chain 1"], shape="duck")
    assert "above the high" in do("controls.limit", controls=["chain 1"], channel="turn x", low=1, high=0)
    assert "must stay allowed" in do("controls.limit", controls=["chain 1"], channel="turn x", low=0.1, high=1)
    assert "holds zero" in do("controls.add_channel", control="chain 1", name="wag", low=0.5, high=1)
    assert "wasn't added" in do("controls.remove_channel", control="chain 1", name="turn x")
    assert "no point" in do("limbs.set_place", kit="chain", point="heel", place=[0, 0, 0])
    assert "“controls”" in do("limbs.set_options", kit="chain", options={"controls": 99})
    assert "keeps its name" in do("controls.rename", control="whole", name="all")


def test_options_change_a_kit_and_what_spoke_of_lost_controls_goes(client, larva):
    shop = client.app.state.workshop
    shop.apply(
        larva, "rules.add", {"rule": {"kind": "follow", "name": "f", "thing": "control:chain 4", "sources": ["ground"]}}
    )
    shop.apply(larva, "limbs.set_options", {"kit": "chain", "options": {"controls": 3}})
    c = shop.character(larva)
    assert sum(x.key.startswith("lead:") for x in c.controls) == 3 and not any(r.name == "f" for r in c.rules)
    pose = compiled(shop, larva).evaluate({})
    assert np.abs(pose.joints[:, :, 3] - [j.place for j in c.joints]).max() < 1e-9


def test_weights_from_elsewhere_say_which_points_are_not_sure(client):
    """Saved, half of the body taken out of the file, and brought back: the points that lie far from what is left aren't sure."""
    shop = client.app.state.workshop
    number = add_member(shop, "larva.obj")
    for step, params in (("joints.lay_plan", {"plan": "chain"}), ("skin.bind", {})):
        shop.apply(number, step, params)
    c = shop.character(number)
    saved = client.get(f"/api/c/{number}/skin/weights.json").json()
    back = c.points[:, 2] < np.median(c.points[:, 2])
    half = saved | {
        k: [r for r, away in zip(saved[k], back, strict=True) if not away] for k in ("places", "normals", "held")
    }

    def bring(told):
        file = ("weights.json", json.dumps(told).encode())
        return client.post(
            f"/api/c/{number}/skin/weights", files={"file": file}, headers={"origin": "http://127.0.0.1:8321"}
        ).json()

    said = bring(half)
    assert 0.3 < said["sure"] < 0.9
    unsure = np.array(said["unsure"])
    assert len(unsure) > 100 and back[unsure].all()
    whole = bring(saved)
    assert whole["sure"] == 1.0 and whole["unsure"] == []
