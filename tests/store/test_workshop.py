"""The ledger and the store: undo, redo, conflicts, milestones, recipes, compaction, and losing nothing."""

import http.client
import json
import threading
import time
import urllib.request

import numpy as np
import pytest
from fastapi.testclient import TestClient

from tests.conftest import ROOT, Server, tube
from vonkel.core.errors import BadFile, Conflict, NotFound, StepRefused, Stopped, VonkelError
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.steps import STEPS
from vonkel.steps.recipe import dump_recipe, parse_recipe
from vonkel.store import Position
from vonkel.store.store import VERSION
from vonkel.web.app import Settings, create_app
from vonkel.workshop import Jobs, Workshop


@pytest.fixture
def shop(tmp_path):
    return Workshop(tmp_path)


@pytest.fixture
def number(shop):
    return shop.add(character_from_mesh(tube(), "tube"), {"file": "tube.obj"}, "Brought in tube.obj")


def add_joint(shop, number, y, **more):
    return shop.apply(number, "joints.add", {"name": "link", "place": [0, y, 0], "both_sides": False, **more})


def test_undo_and_redo_survive_a_restart_to_the_byte(shop, number, tmp_path):
    keys = [shop.character(number).key]
    for y in (0.1, 0.4, 0.8):
        add_joint(shop, number, y)
        keys.append(shop.character(number).key)
    for k in (2, 1, 0):
        shop.store.back(number, None)
        assert Workshop(tmp_path).character(number).key == keys[k]
    with pytest.raises(Conflict, match="nothing left to undo"):
        shop.store.back(number, None)
    again = Workshop(tmp_path)
    for k in (1, 2, 3):
        again.store.forth(number, None)
        assert again.character(number).key == keys[k]
    with pytest.raises(Conflict, match="nothing left to redo"):
        again.store.forth(number, None)


def test_a_refused_step_leaves_nothing(shop, number):
    before = shop.store.position(number), len(shop.store.ledger(number))
    for step, params in (
        ("joints.move", {"joint": "nobody", "place": [0, 0, 0]}),
        ("skin.bind", {}),
        ("joints.add", {"place": [0, float("nan"), 0]}),
        ("no.such", {}),
    ):
        with pytest.raises(VonkelError) as caught:
            shop.apply(number, step, params)
        assert caught.value.what
    assert (shop.store.position(number), len(shop.store.ledger(number))) == before


def test_two_tabs_cannot_overwrite_each_other(shop, number):
    both = shop.store.position(number)
    shop.apply(number, "joints.add", {"place": [0, 0.1, 0]}, both.step)
    with pytest.raises(Conflict, match="another tab"):
        shop.apply(number, "joints.add", {"place": [0, 0.2, 0]}, both.step)
    with pytest.raises(Conflict):
        shop.store.back(number, both)
    assert len(shop.character(number).joints) == 1


def test_twenty_strokes_undone_one_by_one_give_back_the_same_bytes(shop, number):
    shop.apply(number, "shapes.new", {"name": "dent"})
    kinds = ("pull", "swell", "sink", "even", "calm", "flatten", "back")
    keys = []
    for i in range(20):
        keys.append(shop.character(number).key)
        samples = [[40 + 9 * i, 0.3, 0.3, 1, 0, 0, 0], [40 + 9 * i, 0.3, 0.3, 1, 0.01, 0.0, 0.02]]
        params = {"shape": "dent", "brush": kinds[i % 7], "radius": 0.2, "samples": samples}
        shop.apply(number, "shapes.sculpt", params)
    assert len(set(keys)) > 14  # evening a plain tube may change nothing
    for key in reversed(keys):
        shop.store.back(number, None)
        assert shop.character(number).key == key


def test_poses_are_undone_among_steps_and_stay_out_of_recipes(shop, number):
    add_joint(shop, number, 0.1)
    shop.apply(number, "limbs.add_kit", {"kind": "turns", "joints": {"chain": ["link"]}})
    one = {"link turn": {"turn x": 0.5}}
    shop.set_pose(number, one, "Turned link")
    shop.set_pose(number, {"link turn": {"turn x": 0.9}}, "Turned link")
    add_joint(shop, number, 0.5)
    assert shop.pose(number)[0]["link turn"]["turn x"] == 0.9
    shop.store.back(number, None)  # the step
    assert len(shop.character(number).joints) == 1
    shop.store.back(number, None)  # the newer pose
    assert shop.pose(number)[0] == one
    shop.store.back(number, None)
    assert shop.pose(number)[0] == {} and shop.store.can_redo(number)
    shop.store.forth(number, None)
    assert shop.pose(number)[0] == one
    shop.store.forth(number, None)
    shop.store.forth(number, None)
    assert len(shop.character(number).joints) == 2 and shop.pose(number)[0]["link turn"]["turn x"] == 0.9
    assert not shop.store.can_redo(number)
    assert [s.step for s in shop.recipe(number, "r").steps] == ["joints.add", "limbs.add_kit", "joints.add"]
    with pytest.raises(VonkelError, match="no channel"):
        shop.set_pose(number, {"link turn": {"fly": 1.0}}, "x")


def test_recipes_run_again_elsewhere_with_their_arrays(shop, number):
    c = shop.character(number)
    moved = c.points + [0, 0, 0.01] * (c.points[:, 1:2] > 0.9)
    add_joint(shop, number, 0.1)
    shop.apply(number, "shapes.add", {"name": "nod", "points": moved})
    text = dump_recipe(shop.recipe(number, "mine"))
    other = shop.add(character_from_mesh(tube(), "other"), {}, "Brought in")
    shop.run_recipe(other, parse_recipe(text, "mine.json"))
    assert np.array_equal(
        shop.character(other).arrays["shape/nod/moves"], shop.character(number).arrays["shape/nod/moves"]
    )
    bad = json.loads(text)
    bad["steps"].append({"step": "skin.rigid", "params": {"part": "body", "joint": "link"}})
    third = shop.add(character_from_mesh(tube(), "third"), {}, "Brought in")
    at = shop.store.position(third)
    with pytest.raises(StepRefused):
        shop.run_recipe(third, parse_recipe(json.dumps(bad), "bad.json"))
    assert shop.store.position(third) == at
    for broken, words in (
        ("{", "no recipe"),
        ('{"name": "x", "steps": [{"step": "no.such"}]}', "Step 1"),
        ('{"name": "x"}', "steps"),
    ):
        with pytest.raises(BadFile, match=words):
            parse_recipe(broken, "x.json")


def test_editing_an_early_step_does_all_later_ones_again(shop, number):
    add_joint(shop, number, 0.1)
    step = shop.store.position(number).step
    add_joint(shop, number, 0.5, parent="link")
    shop.edit_step(number, step, {"name": "link", "place": [0, 0.2, 0], "both_sides": False})
    c = shop.character(number)
    assert [j.place[1] for j in c.joints] == [0.2, 0.5] and c.joints[1].parent == "link"
    at = shop.store.position(number)
    with pytest.raises(VonkelError):  # the second joint hangs on a name that would be gone
        first = [r for r in shop.store.ledger(number) if not r.undone][1]
        shop.edit_step(number, first.id, {"name": "other", "place": [0, 0.2, 0], "both_sides": False})
    assert shop.store.position(number) == at


def test_compacting_keeps_milestones_and_makes_old_states_again(shop, number):
    keys = {}
    for k in range(16):
        add_joint(shop, number, 0.05 * (k + 1))
        if k == 3:
            mark = shop.store.add_milestone(number, "four links")
        row = shop.store.ledger(number)[-1]
        keys[row.id] = shop.character(number).key
    shop.store.go(number, None, mark.step)
    for k in range(3):
        shop.apply(number, "model.resize", {"metres": 2.0 + k})  # leaves the long line aside
    before, after = shop.store.compact(keep=2)
    assert after < before
    again = Workshop(shop.store.path.parent)
    assert again.character(number, again.store.milestones(number)[0].step).key == keys[mark.step]
    rows = again.store.ledger(number)
    assert len(rows) == 8 and any(not r.kept for r in rows)
    for row in rows:
        made = again.character(number, row.id).key  # replayed where the snapshot is gone
        assert row.id not in keys or made == keys[row.id]
    assert again.changed_steps == set()  # each is what its dropped snapshot was
    again.store.back(number, None)


def test_a_state_that_is_made_again_differently_is_said(shop, number):
    """As if the step did something else today: the ledger says so of the state, and it can be stood on all the same."""
    import sqlite3

    for k in range(6):
        add_joint(shop, number, 0.1 * (k + 1))
    shop.store.compact(keep=1)
    with sqlite3.connect(shop.store.path) as db:
        (step,) = db.execute("SELECT min(step) FROM dropped").fetchone()
        db.execute("UPDATE dropped SET hash = 'another' WHERE step = ?", (step,))
    again = Workshop(shop.store.path.parent)
    assert len(again.character(number, step).joints) >= 1
    assert again.changed_steps == {step}
    client = TestClient(create_app(Settings(shop.store.path.parent)), base_url="http://127.0.0.1")
    client.app.state.workshop.character(number, step)
    rows = client.get(f"/api/c/{number}/ledger").json()["rows"]
    assert [r["id"] for r in rows if r["changed"]] == [step]


def test_going_back_to_a_milestone_and_on_from_there(shop, number):
    add_joint(shop, number, 0.1)
    mark = shop.store.add_milestone(number, "one")
    add_joint(shop, number, 0.2)
    shop.store.go(number, None, mark.step)
    assert len(shop.character(number).joints) == 1
    shop.store.forth(number, None)
    assert len(shop.character(number).joints) == 2
    with pytest.raises(NotFound):
        shop.store.go(number, None, 9999)


def test_bad_files_leave_no_character_behind(shop):
    with pytest.raises(BadFile):
        shop.bring_in("a.glb", b"glTF but not really, only words")
    assert shop.store.characters() == []


def test_equal_arrays_are_kept_once(shop, number):
    size = shop.store.bytes_used()
    for _ in range(5):
        add_joint(shop, number, 0.3)
    assert shop.store.bytes_used() - size < 200_000
    import sqlite3

    with sqlite3.connect(shop.store.path) as db:
        assert db.execute("SELECT count(*) FROM blob").fetchone()[0] == 3


def test_jobs_tell_stop_and_fail_in_words():
    from vonkel.core.progress import tell

    jobs = Jobs()
    go = threading.Event()

    def work():
        for i in range(1000):
            tell(i / 1000, "counting")
            go.set()
            time.sleep(0.005)

    job = jobs.start("Counting", 1, work)
    go.wait(5)
    jobs.stop(job.id)
    assert job.over.wait(5) and job.state == "stopped" and "stopped" in job.error["what"]
    failed = jobs.start("Failing", 1, lambda: 1 / 0)
    assert failed.over.wait(5) and failed.state == "failed" and "division" not in json.dumps(failed.as_dict())
    refused = jobs.start("Refused", 1, lambda: (_ for _ in ()).throw(Stopped("x")))
    assert refused.over.wait(5) and refused.state == "stopped"


def test_every_step_says_what_it_does():
    for kind in STEPS.values():
        assert kind.about.endswith((".", "…")) and len(kind.about) > 15, kind.name
        assert kind.params.model_json_schema()["type"] == "object"


def test_position_is_a_pair():
    assert Position(3, 0) == Position(3, 0) != Position(3, 1)


def test_kill_9_loses_no_acknowledged_step(tmp_path):
    """Steps are sent as fast as they are answered while the server is killed in the middle, several times."""
    shop = Workshop(tmp_path)
    number = shop.add(character_from_mesh(tube(33, 32), "tube"), {}, "Brought in")
    server = Server(tmp_path)
    acknowledged = 0

    def post(body):
        request = urllib.request.Request(
            f"{server.base}/api/c/{number}/steps", json.dumps(body).encode(), {"content-type": "application/json"}
        )
        return json.loads(urllib.request.urlopen(request, timeout=10).read())

    for round_ in range(3):
        killer = threading.Timer(0.4 + 0.2 * round_, server.kill)
        killer.start()
        try:
            while True:
                post(
                    {
                        "step": "joints.add",
                        "params": {"name": "link", "place": [0, 0.001 * acknowledged, 0], "both_sides": False},
                    }
                )
                acknowledged += 1
        except (OSError, http.client.HTTPException):  # cut off before the answer, or in its middle
            pass
        killer.join()
        kept = len(Workshop(tmp_path).character(number).joints)
        assert kept in (acknowledged, acknowledged + 1)  # one may be stored but not yet answered
        acknowledged = kept
        server.start()
    server.kill()
    assert acknowledged > 5


def test_a_store_of_the_first_version_is_brought_up_to_date(tmp_path):
    """A file made from the first schema (data/schema_1.sql) opens, keeps its characters and takes what is new."""
    import sqlite3

    from vonkel.store import Store

    path = tmp_path / "vonkel.db"
    new = Workshop(tmp_path / "other")
    number = new.add(character_from_mesh(tube(), "old"), {"file": "old.obj"}, "Brought in old.obj")
    with sqlite3.connect(new.store.path) as source, sqlite3.connect(path) as db:
        db.executescript((ROOT / "tests/store/data/schema_1.sql").read_text() + "PRAGMA user_version = 1;")
        for table, columns in (
            ("character", "id, name, created, changed, head, tip, pose, pose_tip"),
            ("blob", "*"),
            ("snapshot", "*"),
            ("step", "*"),
        ):
            rows = source.execute(f"SELECT {columns} FROM {table}").fetchall()
            db.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * len(rows[0]))})", rows)
    store = Store(path)
    assert [(s.name, s.archived) for s in store.characters()] == [("old", False)]
    store.archive(number, True)
    assert store.characters()[0].archived and store.add_plan("p", "{}") == 1
    assert Workshop(tmp_path).character(number).key == new.character(number).key
    Store(path)  # and a second opening changes nothing
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == VERSION


def test_a_duplicate_lives_on_its_own_and_survives_a_kill(tmp_path):
    server = Server(tmp_path)
    try:
        shop = Workshop(tmp_path)
        number = shop.add(character_from_mesh(tube(), "one"), {"file": "a.obj"}, "Brought in a.obj")
        add_joint(shop, number, 0.3)
        shop.store.add_milestone(number, "one joint")
        shop.set_pose(number, {}, "rest")
        request = urllib.request.Request(f"{server.base}/api/c/{number}/duplicate", method="POST")
        copy = json.loads(urllib.request.urlopen(request).read())["number"]
        server.kill()
        again = Workshop(tmp_path)
        assert again.character(copy).name == "one 2" and len(again.character(copy).joints) == 1
        assert [m.name for m in again.store.milestones(copy)] == ["one joint"]
        add_joint(again, copy, 0.6)
        assert len(again.character(number).joints) == 1
        again.store.delete(number)
        assert len(again.character(copy).joints) == 2
        before, after = again.store.compact()
        assert len(again.character(copy).joints) == 2 and after <= before
    finally:
        server.kill()


def test_parts_pictures_and_plans_through_the_workshop(shop, number):
    shop.add_parts(number, "badge.obj", b"o badge\nv 0 0 0.2\nv 0.1 0 0.2\nv 0.1 0.1 0.2\nv 0 0.1 0.2\nf 1 2 3 4\n")
    c = shop.character(number)
    assert [p.name for p in c.parts] == ["body", "badge"] and c.parts[1].points == (274, 278)
    shop.add_parts(number, "badge.obj", b"v 0 0 0.3\nv 0.1 0 0.3\nv 0.1 0.1 0.3\nf 1 2 3\n")
    assert shop.character(number).parts[2].name == "badge 2"
    recipe = parse_recipe(dump_recipe(shop.recipe(number, "tube")), "tube")
    other = shop.add(character_from_mesh(tube(), "tube"), {"file": "tube.obj"}, "Brought in tube.obj")
    shop.run_recipe(other, recipe)  # what was brought in travels with the recipe
    assert shop.character(other).key == shop.character(number).key
    with pytest.raises(BadFile):
        shop.add_parts(number, "badge.obj", b"nothing")
    with pytest.raises(VonkelError):
        shop.apply(
            number,
            "model.add_parts",
            {
                "names": ["x"],
                "points": np.zeros((3, 3)),
                "point_part": np.zeros(3, int),
                "face_starts": np.array([0, 3]),
                "face_corners": np.array([0, 1, 7]),
                "line_starts": np.zeros(1, int),
                "line_points": np.zeros(0, int),
            },
        )
    add_joint(shop, number, 0.2)
    add_joint(shop, number, 0.7, parent="link")
    plan = shop.save_plan(number, "links")
    assert [j.name for j in shop.plan(plan).joints] == ["link", "link 2"]
    with pytest.raises(NotFound):
        shop.plan(plan + 1)
    with pytest.raises(BadFile, match="no plan"):
        shop.take_plan(b"{}", "x.json")
