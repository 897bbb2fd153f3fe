"""What the bench asks the server for: files in and out, what lies under the hand, plans, pivots, comparisons."""

import io
import json
import struct
import time
import zipfile

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from tests.conftest import tube
from vonkel.core.formats import gltf, read_character
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.geometry.topology import topology_of
from vonkel.core.handover import written
from vonkel.demo import CAST, DATA
from vonkel.web.app import Settings, create_app


@pytest.fixture(scope="module")
def client(tmp_path_factory):
    app = create_app(Settings(tmp_path_factory.mktemp("bench")))
    with TestClient(app, base_url="http://127.0.0.1:8321") as c:
        yield c


@pytest.fixture
def number(client):
    data = written(character_from_mesh(tube(), "tube"), ".obj")
    return client.post("/api/characters", files={"file": ("tube.obj", data)}).json()["number"]


@pytest.fixture(scope="module")
def larva(client):
    number = client.post("/api/demo?who=larva.obj").json()["number"]
    done(client, client.post(f"/api/c/{number}/steps", json={"step": "joints.lay_plan", "params": {"plan": "chain"}}))
    return number


def done(client, answer):
    job = answer.json()["job"]
    for _ in range(600):
        job = client.get(f"/api/jobs/{job['id']}").json()
        if job["state"] != "running":
            assert job["state"] == "done", job
            return job["result"]
        time.sleep(0.05)
    raise AssertionError("the job did not end")


def png(w=30, h=20):
    out = io.BytesIO()
    Image.new("RGB", (w, h), (120, 90, 60)).save(out, "PNG")
    return out.getvalue()


def test_pictures_and_textures_go_in_and_come_out_as_they_were(client, number):
    data = png()
    put = client.post(f"/api/c/{number}/pictures", files={"file": ("sheet.png", data)}, data={"view": "side"})
    assert put.status_code == 200
    q = client.get(f"/api/c/{number}").json()["pictures"][0]
    assert q["view"] == "side" and q["width"] == pytest.approx(1.5)  # as tall as the model
    got = client.get(f"/api/c/{number}/pictures/sheet?v={q['key']}")
    assert (
        got.content == data
        and "immutable" in got.headers["cache-control"]
        and got.headers["content-type"] == "image/png"
    )
    bad = client.post(f"/api/c/{number}/pictures", files={"file": ("x.png", b"\x89PNG but no")}, data={"view": "side"})
    assert bad.status_code == 422 and "PNG or JPEG" in bad.json()["error"]["what"]
    refused = client.post(f"/api/c/{number}/texture", files={"file": ("t.png", data)})
    assert "no texture places" in refused.json()["error"]["what"]
    assert client.get(f"/api/c/{number}/texture").status_code == 404
    set_ = {"step": "model.picture", "params": {"picture": "sheet", "width": 2.0, "strength": 0.3}}
    assert client.post(f"/api/c/{number}/steps", json=set_).status_code == 200
    scaled = client.post(f"/api/c/{number}/steps", json={"step": "model.resize", "params": {"metres": 2.0}})
    assert scaled.status_code == 200 and client.get(f"/api/c/{number}").json()["pictures"][0]["width"] == pytest.approx(
        4.0
    )


def test_a_drawing_becomes_a_part_of_lines_that_goes_out_again(client, number):
    svg = b'<svg xmlns="http://www.w3.org/2000/svg"><g transform="translate(10 0) scale(2)"><path id="brow" d="M0 0 L100 0 C100 50 50 100 0 100"/></g><circle cx="5" cy="5" r="40"/></svg>'
    assert client.post(f"/api/c/{number}/parts", files={"file": ("face.svg", svg)}).status_code == 200
    state = client.get(f"/api/c/{number}").json()
    brow = next(p for p in state["parts"] if p["name"] == "brow")
    assert brow["role"] == "line" and brow["lines"][1] - brow["lines"][0] == 1
    raw = client.get(f"/api/c/{number}/mesh/{state['mesh']}").content
    head = json.loads(raw[4 : 4 + struct.unpack("<I", raw[:4])[0]])
    assert head["lines"] == 17 + 48 and head["points"] == state["counts"]["points"]
    c = client.app.state.workshop.character(number)
    line = c.points[slice(*brow["points"])]
    assert np.ptp(line[:, 0]) == pytest.approx(0.2) and np.ptp(line[:, 1]) == pytest.approx(
        0.2
    )  # a unit is a millimetre
    again = read_character("a.obj", client.get(f"/api/c/{number}/export.obj").content)
    assert next(p for p in again.parts if p.name == "brow").lines[1] >= 1
    rigged = gltf.read_rigged("a.glb", written(c, ".glb"), "again")
    assert np.array_equal(rigged.arrays["line_points"], c.arrays["line_points"])
    for bad in (b"<svg><path d='M 0 0 L'/></svg>", b"<html/>", b"<svg/>", b"not xml"):
        answer = client.post(f"/api/c/{number}/parts", files={"file": ("bad.svg", bad)})
        assert answer.status_code == 422 and answer.json()["error"]["todo"]


def test_hard_parts_and_texture_seams_are_drawn_with_corners_of_their_own(client, number):
    client.post(f"/api/c/{number}/steps", json={"step": "model.part", "params": {"part": "body", "shading": "hard"}})
    state = client.get(f"/api/c/{number}").json()
    raw = client.get(f"/api/c/{number}/mesh/{state['mesh']}").content
    at = 4 + struct.unpack("<I", raw[:4])[0]
    head = json.loads(raw[4:at])
    c = client.app.state.workshop.character(number)
    assert head["corners"] == len(c.arrays["face_corners"])
    assert b'"NORMAL"' not in client.get(f"/api/c/{number}/export.glb").content  # so that readers shade it flat


def test_what_lies_under_the_hand(client, number):
    c = client.app.state.workshop.character(number)
    topo = topology_of(c)
    a, b = topo.corners[0], topo.corners[1]
    at = (0.7 * c.points[a] + 0.3 * c.points[b]).tolist()
    found = client.post(f"/api/c/{number}/under", json={"what": "edge", "triangle": 0, "place": at}).json()
    assert set(found["edge"]) == {int(a), int(b)} and len(found["line"]) == found["edges"]
    face = client.post(f"/api/c/{number}/under", json={"what": "face", "triangle": 1}).json()
    assert face["size"] == 4 and len(face["line"]) == 4
    path = client.post(f"/api/c/{number}/under", json={"what": "path", "points": [0, 16 * 5]}).json()
    assert path["points"] == [0, 16, 32, 48, 64, 80]
    girth = client.post(f"/api/c/{number}/under", json={"what": "around", "points": [8 * 16], "axis": "y"}).json()
    assert girth["metres"] == pytest.approx(16 * 2 * 0.1 * np.sin(np.pi / 16), rel=1e-6)  # a polygon of sixteen sides
    up = client.post(f"/api/c/{number}/under", json={"what": "between", "points": [0, 16 * 16], "axis": "y"}).json()
    assert up["metres"] == pytest.approx(1.0)
    for bad in (
        {"what": "edge", "triangle": 10**6},
        {"what": "between", "points": [0]},
        {"what": "path", "points": [0, 10**7]},
        {"what": "border", "points": [3]},
    ):
        answer = client.post(f"/api/c/{number}/under", json=bad)
        assert answer.status_code in (404, 409, 422) and answer.json()["error"]["what"]


def test_landings_landmarks_pivots_and_gimbals(client, larva):
    c = client.app.state.workshop.character(larva)
    land = client.post(f"/api/c/{larva}/landing", json={"origin": [5, 0.1, -0.2], "way": [-1, 0, 0]}).json()
    assert land["on"] == "middle" and abs(land["place"][0]) < 1e-3
    on = client.post(
        f"/api/c/{larva}/landing",
        json={"origin": [5, *c.joint("chain_4").place[1:]], "way": [-1, 0, 0], "tolerance": 0.01},
    ).json()
    assert (on["on"], on["name"]) == ("joint", "chain_4")
    marks = done(client, client.post(f"/api/c/{larva}/landmarks", json={"plan": "chain", "options": {"joints": 6}}))
    assert {m["label"] for m in marks["marks"].values()} == {"root", "middle", "tip"} and marks["seen"] == []
    assert all(m["sure"] in ("sure", "look here", "not found") for m in marks["marks"].values())
    tip = {"chain_end": [0.0, 0.3, 0.4]}
    again = done(
        client, client.post(f"/api/c/{larva}/landmarks", json={"plan": "chain", "options": {"joints": 6}, "given": tip})
    )
    assert again["marks"]["chain_end"]["place"] == [0.0, 0.3, 0.4] and again["marks"]["chain_end"]["sure"] == "sure"
    asked = done(client, client.post(f"/api/c/{larva}/proposal"))
    assert asked["plan"] == "chain" and asked["words"].startswith("This looks most like a chain")
    refused = done(client, client.post(f"/api/c/{larva}/landmarks", json={"plan": "winged"}))
    assert "doesn't read as a winged" in refused["words"][0] and len(refused["seen"]) > 1
    assert {m["sure"] for m in refused["marks"].values()} == {"not found"}
    wrong = {"plan": "chain", "given": {"chain_end": [0, 0, "far"]}}
    assert client.post(f"/api/c/{larva}/landmarks", json=wrong).status_code == 422
    tried = done(client, client.post(f"/api/c/{larva}/pivot", json={"joint": "chain_5"}))
    assert any(t["name"] == "as it is" for t in tried) and [t["badness"] for t in tried] == sorted(
        t["badness"] for t in tried
    )
    assert all(t["picture"] and t["squeeze"] <= 1.01 for t in tried)
    assert client.get(f"/api/c/{larva}/gimbal/chain_5").json()["xyz"] == 30.0  # ±60° about each axis when it is free
    assert client.post(f"/api/c/{larva}/landmarks", json={"plan": "centaur"}).status_code == 404
    assert client.post(f"/api/c/{larva}/pivot", json={"joint": "nobody"}).status_code == 404


def test_plans_of_ones_own_are_kept_given_away_and_laid(client, larva):
    saved = client.post(f"/api/c/{larva}/plan", json={"name": "beads"}).json()["plan"]
    assert {"id": saved, "name": "beads"} in client.get("/api/plans").json()["own"]
    file = client.get(f"/api/plans/{saved}.json").content
    taken = client.post("/api/plans", files={"file": ("beads.json", file)}).json()["plan"]
    other = client.post("/api/demo?who=larva.obj").json()["number"]
    done(client, client.post(f"/api/c/{other}/plans/{taken}"))
    made, old = (client.app.state.workshop.character(n) for n in (other, larva))
    assert [j.name for j in made.joints] == [j.name for j in old.joints]
    assert np.allclose([j.place for j in made.joints], [j.place for j in old.joints], atol=1e-3)
    recipe = json.loads(client.get(f"/api/c/{other}/recipe.json").content)
    assert recipe["steps"][-1]["step"] == "joints.lay_own"  # a recipe carries the plan with it
    assert (
        client.delete(f"/api/plans/{taken}").status_code == 200
        and client.delete(f"/api/plans/{taken}").status_code == 404
    )
    bad = client.post("/api/plans", files={"file": ("x.json", b'{"name": 3}')})
    assert bad.status_code == 422 and "no plan" in bad.json()["error"]["what"]


def test_two_states_are_compared_in_words_and_pictures(client, larva):
    rows = client.get(f"/api/c/{larva}/ledger").json()["rows"]
    said = client.get(f"/api/c/{larva}/compare?a={rows[0]['id']}&b={rows[-1]['id']}").json()
    assert any("joints new" in s for s in said["said"]) and said["a"]["joints"] == 0 < said["b"]["joints"]
    picture = client.get(f"/api/c/{larva}/states/{rows[-1]['id']}.png")
    bare = client.get(f"/api/c/{larva}/states/{rows[-1]['id']}.png?bones=false")
    assert Image.open(io.BytesIO(picture.content)).size == (420, 420) and picture.content != bare.content


def test_joint_names_are_translated_on_export(client, otter):
    number = client.app.state.workshop.add(otter, {}, "Brought in")
    hanim = client.get(f"/api/c/{number}/export.glb?names=hanim").content
    length = struct.unpack("<I", hanim[12:16])[0]
    names = {n["name"] for n in json.loads(hanim[20 : 20 + length])["nodes"]}
    assert {"l_elbow", "skullbase", "r_knee"} <= names and "forearm_L" not in names
    again = gltf.read_rigged("a.glb", hanim, "again")
    assert {j.name for j in again.joints} == {j.name for j in otter.joints}  # our own names come back
    assert set(again.skin.joints) <= set(again.joint_index)
    assert client.get(f"/api/c/{number}/export.glb?names=nothing").status_code == 422


# -- whole characters --------------------------------------------------------------------------------------------
def test_a_whole_character_goes_out_and_comes_back_the_same(client, larva):
    workshop = client.app.state.workshop
    workshop.store.add_milestone(larva, "laid")
    whole = client.get(f"/api/c/{larva}/export.vonkel").content
    number = client.post("/api/characters", files={"file": ("Wick.vonkel", whole)}).json()["number"]
    assert workshop.character(number).key == workshop.character(larva).key
    rows = [[r["sentence"], r["name"]] for r in client.get(f"/api/c/{number}/ledger").json()["rows"]]
    assert rows == [
        [r["sentence"], r["name"]] for r in client.get(f"/api/c/{larva}/ledger").json()["rows"] if not r["undone"]
    ]
    assert [m.name for m in workshop.store.milestones(number)] == ["laid"]
    at = {"position": client.get(f"/api/c/{number}").json()["position"]}
    assert client.post(f"/api/c/{number}/undo", json=at).status_code == 200  # its past is alive
    copy = client.post(f"/api/c/{larva}/duplicate").json()["number"]
    assert client.get(f"/api/c/{copy}").json()["name"] != client.get(f"/api/c/{larva}").json()["name"]
    client.post(f"/api/c/{copy}/archive")
    assert next(s for s in workshop.store.characters() if s.id == copy).archived
    client.post(f"/api/c/{copy}/archive?away=false")
    assert not next(s for s in workshop.store.characters() if s.id == copy).archived


def test_a_spoiled_character_file_is_refused_and_leaves_nothing(client, larva):
    whole = client.get(f"/api/c/{larva}/export.vonkel").content
    before = len(client.app.state.workshop.store.characters())

    def changed(edit):
        source, out = zipfile.ZipFile(io.BytesIO(whole)), io.BytesIO()
        with zipfile.ZipFile(out, "w") as z:
            for i in source.infolist():
                data = edit(i.filename, source.read(i.filename))
                if data is not None:
                    z.writestr(i.filename, data)
        return out.getvalue()

    def json_with(change):
        def edit(name, data):
            if name != "character.json":
                return data
            listed = json.loads(data)
            change(listed)
            return json.dumps(listed)

        return changed(edit)

    arrays = sorted(n for n in zipfile.ZipFile(io.BytesIO(whole)).namelist() if n.endswith(".npy"))
    spoiled = {
        "no zip": whole[:400],
        "an array is gone": changed(lambda n, d: None if n == arrays[0] else d),
        "an array was changed": changed(lambda n, d: d[:-1] + bytes([d[-1] ^ 1]) if n == arrays[0] else d),
        "a pickle": changed(lambda n, d: b"\x80\x04K\x01." if n == arrays[0] else d),
        "an unknown step": json_with(lambda x: x["steps"][1].update(name="model.explode")),
        "a broken hierarchy": json_with(
            lambda x: x["steps"][-1]["snapshot"]["document"]["joints"][1].update(parent="nobody")
        ),
        "parts that don't fit": json_with(
            lambda x: x["steps"][-1]["snapshot"]["document"]["parts"][0].update(points=[0, 3])
        ),
        "no last state": json_with(lambda x: x["steps"][-1].update(snapshot=None)),
        "another version": json_with(lambda x: x.update(vonkel_character=2)),
    }
    for what, data in spoiled.items():
        answer = client.post("/api/characters", files={"file": ("x.vonkel", data)})
        assert answer.status_code == 422, what
        assert answer.json()["error"]["what"] and answer.json()["error"]["todo"], what
    assert len(client.app.state.workshop.store.characters()) == before


def test_everyone_of_the_cast_can_be_called(client):
    for file in CAST:
        assert (DATA / file).is_file()
    assert client.post("/api/demo?who=ghost.obj").status_code == 404
    shelf = client.get("/").text
    assert all(m.name in shelf for m in CAST.values())
