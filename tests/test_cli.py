"""The command line, as a person or a script would use it."""

import contextlib
import io
import json
import subprocess
import sys
import zipfile
from unittest import mock

import pytest

from tests.conftest import ROOT
from vonkel import cli
from vonkel.demo import DATA
from vonkel.steps import STEPS


def vonkel(*words, ok=True):
    """What a command prints and its code, in this process: a start of its own takes longer than most of them do."""
    out, err, command = io.StringIO(), io.StringIO(), ["vonkel", *map(str, words)]
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), mock.patch.object(sys, "argv", command):
        with pytest.raises(SystemExit) as left:
            cli.main()
    done = subprocess.CompletedProcess(command, left.value.code or 0, out.getvalue(), err.getvalue())
    assert not ok or done.returncode == 0, done.stderr
    return done


@pytest.mark.parametrize("words, code", [(["steps"], 0), (["check", "README.md"], 3)])
def test_as_a_process_it_says_the_same(words, code):
    command = [sys.executable, "-m", "vonkel.cli", *words]
    alone, here = subprocess.run(command, capture_output=True, text=True, cwd=ROOT), vonkel(*words, ok=False)
    assert (alone.returncode, alone.stdout, alone.stderr) == (here.returncode, here.stdout, here.stderr)
    assert alone.returncode == code


def test_the_whole_job_without_a_server(tmp_path):
    out, report = tmp_path / "otter.glb", tmp_path / "report.json"
    said = json.loads(vonkel("apply", "biped", "--model", DATA / "otter.obj", "--out", out, "--report", report).stdout)
    assert said["counts"]["joints"] > 60 and out.stat().st_size > 500_000
    written = json.loads(report.read_text())
    assert written["vonkel_report"] == 1 and written["counts"]["controls"] > 40 and "3 skin.bind" in written["times_s"]
    assert len(written["trials"]) >= 10 and written["trials"][0]["badness"] >= written["trials"][-1]["badness"]
    assert not [f for f in written["findings"] if f["level"] == "must"]
    found = vonkel("check", out)
    assert isinstance(json.loads(found.stdout), list)
    cards = json.loads(vonkel("trial", out).stdout)
    assert {c["name"] for c in cards} == {c["name"] for c in written["trials"]}
    one = {c["name"]: c for c in cards}["sit"]["edge_stretch_most"]
    assert one == pytest.approx({c["name"]: c for c in written["trials"]}["sit"]["edge_stretch_most"], rel=0.02)


def test_joints_that_cant_be_right_are_written_and_told_by_the_exit_code(tmp_path):
    """Eight legs laid as a biped: the file is there, the joints are named, the exit code is 1."""
    from tests.judging.posing import posed
    from tests.web.test_browser_bench import as_obj

    mesh, out = tmp_path / "spinner.obj", tmp_path / "spinner.glb"
    mesh.write_bytes(as_obj(posed("spinner", 1, 1.0).mesh))
    done = vonkel("apply", "joints.lay_plan", "--params", '{"plan": "biped"}', "--model", mesh, "--out", out, ok=False)
    assert done.returncode == 1 and out.stat().st_size > 100_000
    assert "look here: " in done.stderr or "not found: " in done.stderr
    told = json.loads(vonkel("read", "plan", mesh).stdout)
    assert told["plan"] == "many-legged" and told["words"].startswith("This looks like a many-legged body: 8 legs")
    faults = json.loads(vonkel("read", "acceptance", mesh).stdout)
    assert faults == []  # no joints yet


def test_stored_characters_step_by_step(tmp_path):
    mesh = tmp_path / "box.obj"
    mesh.write_text(
        "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1\nf 1 4 3 2\nf 5 6 7 8\nf 1 2 6 5\nf 3 4 8 7\nf 2 3 7 6\nf 1 5 8 4\n"
    )
    store = ("--store", tmp_path / "store")
    number = json.loads(vonkel("new", mesh, "--name", "Box", *store).stdout)["character"]
    vonkel("apply", "model.resize", "--character", number, "--params", '{"metres": 0.5}', *store)
    vonkel("export", number, tmp_path / "box2.obj", *store)
    from vonkel.core.formats import read_character

    assert read_character("b.obj", (tmp_path / "box2.obj").read_bytes()).height == pytest.approx(0.5)
    assert vonkel("check", number, *store).returncode == 0


@pytest.mark.parametrize(
    "words, code, said",
    [
        (["new", "nowhere.obj"], 4, "no file nowhere.obj"),
        (["apply", "biped"], 2, "Say what to work on"),
        (["apply", "no such recipe", "--model", DATA / "otter.obj"], 4, "no recipe"),
        (["apply", "model.resize", "--model", DATA / "otter.obj", "--params", "{"], 2, "not JSON"),
        (["apply", "model.resize", "--model", DATA / "otter.obj", "--params", '{"metres": -1}'], 2, "“metres”"),
        (["check", ROOT / "README.md"], 3, "can't read"),
        (["trial", DATA / "otter.obj"], 2, "no skin"),
        (["serve", "--host", "0.0.0.0"], 2, "other machines"),
    ],
)
def test_refusals_are_one_line_and_a_code(words, code, said):
    done = vonkel(*words, ok=False)
    assert done.returncode == code and said in done.stderr and "Traceback" not in done.stderr


def test_lists_are_json_with_schemas():
    assert {s["name"] for s in json.loads(vonkel("steps").stdout)} == set(STEPS)
    assert {k["kind"] for k in json.loads(vonkel("kits").stdout)} >= {"arm", "leg", "body", "turns", "eyes"}
    plans = json.loads(vonkel("plans").stdout)
    assert plans[0]["name"] == "biped" and "spine" in plans[0]["options"]["properties"]


def test_every_command_is_documented_and_has_help():
    readme = (ROOT / "README.md").read_text()
    for command in ("serve", "new", "apply", "trial", "order", "export", "check", "steps", "kits", "plans"):
        assert f"vonkel {command}" in readme, command
        assert "Usage" in vonkel(command, "--help").stdout


def test_plans_names_and_whole_characters_from_the_command_line(tmp_path):
    """A second body type by its recipe, its skeleton kept as a plan and laid again, and the character moved whole."""
    store = ["--store", str(tmp_path / "store")]
    number = json.loads(vonkel("new", DATA / "larva.obj", "--name", "Wick", *store).stdout)["character"]
    made = vonkel("apply", "chain", "--character", number, *store)
    assert made.returncode == 0, made.stderr
    lines = json.loads(vonkel("order", number, *store).stdout)
    assert lines[0]["sentence"] == "whole stands on the ground" and all(x["micros"] >= 0 and x["writes"] for x in lines)
    assert any("lie along the curve" in x["sentence"] for x in lines)
    plan = tmp_path / "beads.json"
    assert json.loads(vonkel("plan", number, plan, "--name", "beads", *store).stdout)["joints"] == 13
    whole = tmp_path / "Wick.vonkel"
    assert vonkel("export", number, whole, *store).returncode == 0
    other = ["--store", str(tmp_path / "elsewhere")]
    again = json.loads(vonkel("new", whole, *other).stdout)["character"]
    laid = vonkel(
        "apply",
        "joints.lay_own",
        "--character",
        again,
        "--params",
        json.dumps({"plan": json.loads(plan.read_text())}),
        *other,
    )
    assert laid.returncode == 0, laid.stderr
    glb = tmp_path / "wick.glb"
    assert vonkel("export", again, glb, "--names", "{part}-{n}{side}", *other).returncode == 0
    assert b'"chain-3C"' in glb.read_bytes()
    pack = tmp_path / "wick.zip"
    assert vonkel("export", again, pack, *other).returncode == 0
    assert zipfile.ZipFile(pack).namelist() == ["rest.obj"]  # it has no shapes
    refused = vonkel("export", again, tmp_path / "wick.xyz", *other, ok=False)
    assert refused.returncode == 2 and "can't write" in refused.stderr
    spoiled = tmp_path / "spoiled.vonkel"
    spoiled.write_bytes(whole.read_bytes()[:900])
    assert vonkel("new", spoiled, *other, ok=False).returncode == 3


def test_a_gltf_brings_the_files_beside_it_along(tmp_path):
    from tests.core.test_reading import parted
    from tests.fuzz.seeds import gltf_json

    text, data = parted(json.loads(gltf_json()))
    (tmp_path / "strip.gltf").write_bytes(text)
    refused = vonkel("check", tmp_path / "strip.gltf", ok=False)
    assert refused.returncode == 3
    assert "its data.bin" in refused.stderr
    (tmp_path / "its data.bin").write_bytes(data)
    assert vonkel("check", tmp_path / "strip.gltf", ok=False).returncode in (0, 1)
    number = json.loads(vonkel("new", tmp_path / "strip.gltf", "--store", tmp_path / "s").stdout)["character"]
    vonkel("export", number, tmp_path / "out.obj", "--store", tmp_path / "s")
    assert (tmp_path / "out.obj").read_text().count("\nv ") + 1 >= 8


def test_places_that_cant_be_written_or_read_are_said_in_one_line(tmp_path):
    mesh = DATA / "cracked.obj"
    number = json.loads(vonkel("new", mesh, "--store", tmp_path / "s").stdout)["character"]
    said = vonkel("export", number, tmp_path / "nowhere" / "out.obj", "--store", tmp_path / "s", ok=False)
    assert said.returncode == 2
    assert "can't be written" in said.stderr and "Traceback" not in said.stderr
    (tmp_path / "file").write_text("x")
    said = vonkel("new", mesh, "--store", tmp_path / "file" / "s", ok=False)
    assert said.returncode == 6
    assert "can't be opened" in said.stderr and "Traceback" not in said.stderr


def stored(folder, file, plan, glb):
    """One of the cast with joints and a skin in a store, and as a file; its number."""
    from vonkel.core.handover import written
    from vonkel.demo import add_member
    from vonkel.workshop import Workshop

    shop = Workshop(folder)
    number = add_member(shop, file)
    for step, params in (("joints.lay_plan", {"plan": plan}), ("skin.bind", {})):
        shop.apply(number, step, params)
    glb.write_bytes(written(shop.character(number), ".glb"))
    return number


def test_a_motion_goes_through_a_rig_and_comes_out_with_its_feet_planted(tmp_path):
    """A .glb brings joints, a whole character its rig, too; both send the made-up person's motion on."""
    import itertools

    from vonkel.core.formats import read_motion
    from vonkel.standins import suit_lines

    motion = tmp_path / "person.bvh"
    motion.write_text("\n".join(itertools.islice(suit_lines(), 300)) + "\n")
    glb, out = tmp_path / "newt.glb", tmp_path / "through.bvh"
    stored(tmp_path / "store", "newt.obj", "quadruped", glb)
    said = json.loads(vonkel("play", glb, motion, "--out", out, "--rate", 30).stdout)
    assert said["matches"]["thigh_L"] == "L_Femur" and said["matches"]["hand_R"] == "R_Hand"
    assert all(f["slides_of_leg"] <= 0.005 for f in said["feet"]) and max(f["stands"] for f in said["feet"]) > 0.5
    back = read_motion("through.bvh", out.read_bytes())
    assert back.rate == pytest.approx(30, abs=1e-3) and len(back.rows) > 80
    whole = tmp_path / "through.glb"
    told = tmp_path / "matches.json"
    told.write_text(json.dumps(said["matches"] | {"head": ""}))
    vonkel("play", glb, motion, "--out", whole, "--matches", told, "--no-plant")
    assert read_motion("through.glb", whole.read_bytes()).rate == pytest.approx(60, abs=1e-3)
    told.write_text("[1]")
    bad = vonkel("play", glb, motion, "--out", out, "--matches", told, ok=False)
    assert bad.returncode == 3 and "matches" in bad.stderr and "Traceback" not in bad.stderr


def test_trials_run_on_a_cluster_too_and_are_kept(tmp_path):
    """Dask's own local cluster: the same cards as here, kept in the store and on the page."""
    from distributed import LocalCluster

    store = ("--store", tmp_path / "store")
    glb = tmp_path / "wick.glb"
    number = stored(tmp_path / "store", "larva.obj", "chain", glb)
    here = json.loads(vonkel("trial", glb).stdout)
    with LocalCluster(n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
        page = tmp_path / "pages"
        there = json.loads(
            vonkel("trial", glb, number, "--scheduler", cluster.scheduler_address, "--page", page, *store).stdout
        )
    assert [(c["name"], c["grade"]) for c in there[str(glb)]] == [(c["name"], c["grade"]) for c in here]
    assert len(list(page.iterdir())) == 2
    from vonkel.workshop import Workshop

    cards, fresh = Workshop(tmp_path / "store").trials(int(number))
    assert fresh and len(cards) == len(here) and cards[0]["picture"]
    nobody = vonkel("trial", glb, "--scheduler", "tcp://127.0.0.1:9", ok=False)
    assert nobody.returncode == 2 and "scheduler" in nobody.stderr
