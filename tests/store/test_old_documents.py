"""What earlier versions wrote is read, brought to the present form once, and poses as it did then.

The files in `tests/data/old/` were written by running 0.1, 0.2 and 0.3 themselves: a small figure of cells with the biped
plan, its outfit, a bound skin and one hand pulled down; `posed-….npy` is what that version deformed it to.
"""

import gzip
import json
from pathlib import Path

import numpy as np
import pytest

from vonkel.core.character.upgrade import VERSION
from vonkel.core.errors import BadFile, StoreTrouble
from vonkel.core.loading import loaded
from vonkel.core.plans import OwnPlan
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.core.soundness import unsound
from vonkel.workshop import Workshop
from vonkel.workshop.package import pack

OLD = Path(__file__).parent.parent / "data" / "old"
WRITTEN_BY = ("0.1", "0.2", "0.3")


def old_store(version, folder):
    (folder / "vonkel.db").write_bytes(gzip.decompress((OLD / f"store-{version}.db.gz").read_bytes()))
    return Workshop(folder)


@pytest.mark.parametrize("version", WRITTEN_BY)
def test_a_store_of_an_earlier_version_opens_and_poses_as_it_did(version, tmp_path):
    workshop = old_store(version, tmp_path)
    number = workshop.store.characters()[0].id
    c = workshop.character(number)
    assert c.version == VERSION
    assert unsound(c) == ""
    assert all(control.key for control in c.controls)
    values, label = workshop.pose(number)
    assert label == "hand down"
    posed = Deformer(c).deform(compile_rig(c).evaluate(values))
    then = np.load(OLD / f"posed-{version}.npy")
    assert np.abs(then - c.points).max() > 0.1
    assert np.abs(posed - then).max() < 2e-4


@pytest.mark.parametrize("version", WRITTEN_BY)
def test_an_older_rig_is_worked_on_like_a_new_one(version, tmp_path):
    workshop = old_store(version, tmp_path)
    number = workshop.store.characters()[0].id
    place = np.array(workshop.character(number).joint("forearm_L").place) + [0.0, 0.01, 0.0]
    workshop.apply(number, "joints.move", {"joint": "forearm_L", "place": place.tolist()})
    workshop.apply(number, "controls.rename", {"control": "hand_L", "name": "left hand"})
    c = Workshop(tmp_path).character(number)
    rest = compile_rig(c).evaluate({}).joints[:, :, 3]
    assert np.abs(rest - [j.place for j in c.joints]).max() < 1e-9
    assert "left hand" in c.control_named
    before = workshop.store.ledger(number)[1]
    assert workshop.character(number, before.id).version == VERSION


@pytest.mark.parametrize("version", WRITTEN_BY[1:])
def test_a_character_file_of_an_earlier_version_opens_with_its_ledger(version, tmp_path):
    workshop = Workshop(tmp_path)
    number = workshop.bring_in(f"figure-{version}.vonkel", (OLD / f"figure-{version}.vonkel").read_bytes())
    assert len(workshop.store.ledger(number)) >= 4
    c = workshop.character(number)
    assert c.version == VERSION and unsound(c) == ""
    assert workshop.pose(number)[1] == "hand down"
    if version == "0.3":
        assert [r.name for r in c.rules if not r.kit] == ["mood lifts", "nod"]


def test_index_fingers_have_todays_role_and_keep_their_names(otter):
    raw = json.loads(otter.model_dump_json())
    del raw["version"]
    for j in raw["joints"]:
        if j["role"].startswith("index_"):
            j["role"] = j["role"].replace("index_", "point_")
    fingers = [j.name for j in otter.joints if j.role.startswith("index_")]
    assert fingers
    again = loaded(json.dumps(raw), otter.arrays)
    assert [again.joint(n).role for n in fingers] == [otter.joint(n).role for n in fingers]
    assert [j.name for j in again.joints] == [j.name for j in otter.joints]


def test_an_own_plan_of_an_earlier_version_is_read_in_todays_words():
    plan = OwnPlan.model_validate({
        "name": "old", "base": "biped", "base_places": {"point_1_L": (0, 1, 0)}, "box": ((0, 0, 0), (1, 1, 1)),
        "joints": [{"name": "point_1_L", "role": "point_1", "place": (0, 1, 0)}],
    })  # fmt: skip
    assert list(plan.base_places) == ["index_1_L"]
    assert plan.joints[0].role == "index_1" and plan.joints[0].name == "point_1_L"


@pytest.mark.parametrize(
    "version, why", [(VERSION + 1, "newer Vonkel"), (-1, "no version"), ("2", "no version"), (True, "no version")]
)
def test_a_newer_or_odd_version_is_refused_in_words(version, why, tmp_path, otter, monkeypatch):
    workshop = Workshop(tmp_path)
    number = workshop.bring_in("figure-0.3.vonkel", (OLD / "figure-0.3.vonkel").read_bytes())
    kept = workshop.store.snapshot

    def other(digest):
        document, arrays = kept(digest)
        return json.dumps(json.loads(document) | {"version": version}), arrays

    monkeypatch.setattr(workshop.store, "snapshot", other)
    workshop._cache.clear()
    with pytest.raises(StoreTrouble, match="can't be read") as refused:
        workshop.character(number)
    assert why in refused.value.where
    packed = pack(workshop.store, number, ({}, ""))
    with pytest.raises(BadFile, match=why):
        Workshop(tmp_path / "other").bring_in("x.vonkel", packed)
