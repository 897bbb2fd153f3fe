"""The Python door: the examples of docs/python.md run as they stand, and it gives what the page gives."""

import re
from pathlib import Path

import numpy as np
import pytest

import vonkel
from tests.bodies import mannequin
from vonkel.core.errors import VonkelError
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.core.handover import written
from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.demo import DATA, READY
from vonkel.steps import STEPS
from vonkel.workshop.package import opened

DOCS = Path(__file__).parent.parent / "docs/python.md"


def test_the_examples_of_the_guide_run(tmp_path, monkeypatch, capsys):
    figure = character_from_mesh(mannequin(height=1.75, cell=0.03), "figure")
    (tmp_path / "figure.obj").write_bytes(written(figure, ".obj"))
    monkeypatch.chdir(tmp_path)
    there = {}
    examples = re.findall(r"```python\n(.*?)```", DOCS.read_text(), re.DOTALL)
    assert len(examples) >= 5
    for example in examples:
        exec(compile(example, "docs/python.md", "exec"), there)  # noqa: S102  # our own guide
    assert there["moved"] > 0.05
    assert (tmp_path / "figure.glb").stat().st_size > 10_000
    assert "points" in capsys.readouterr().out


def test_the_door_gives_what_the_page_gives():
    c = vonkel.open(DATA / READY)
    assert c.key == opened((DATA / READY).read_bytes(), READY).last.key
    values = {"hand_L": {"move y": -0.1}, "shapes": {"mouth open": 0.5}}
    pose = compile_rig(c).evaluate(values)
    assert np.array_equal(vonkel.deform(c, values), np.asarray(Deformer(c).deform(pose), float))
    assert np.array_equal(vonkel.deform(c, values, "linear"), np.asarray(Deformer(c).deform(pose, "linear"), float))
    assert np.array_equal(vonkel.pose(c, values)["hand_L"], pose.joints[c.joint_index["hand_L"]])
    assert set(vonkel.list_steps()) == set(STEPS)
    assert vonkel.read(c, "report")["counts"] == vonkel.read(c, "counts")


@pytest.mark.parametrize("wrong, why", [
    (lambda c: vonkel.read(c, "tea leaves"), "no reading"),
    (lambda c: vonkel.apply(c, "joints.fly"), "no step"),
    (lambda c: vonkel.apply(c, "joints.move", joint="nobody", place=(0, 0, 0)), "no joint"),
    (lambda c: vonkel.open("nowhere.obj"), "can't be read"),
    (lambda c: vonkel.export(c, "x.pdf"), "can't write"),
    (lambda c: vonkel.run(c, "souffle"), "recipe"),
])  # fmt: skip
def test_refusals_are_the_pages_own(wrong, why, otter_mesh):
    with pytest.raises(VonkelError, match=why):
        wrong(otter_mesh)
