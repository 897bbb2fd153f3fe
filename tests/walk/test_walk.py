"""A short walk on small meshes and on a finished member of the cast; `python -m tests.walk 10000` takes a long one."""

from tests.walk.starts import small
from tests.walk.walk import walk
from vonkel.steps.registry import STEPS


def test_random_steps_leave_sound_characters():
    found = walk(small(), 900, seed=11, sample=0.005)
    assert found.faults == []
    assert sum(found.done.values()) > 150
    assert len(set(found.done) | set(found.refused)) > 0.9 * len(STEPS)  # hardly a kind is left out


def test_random_steps_on_a_finished_rig(otter):
    found = walk([otter], 60, seed=5, sample=0.0)
    assert found.faults == []
    assert sum(found.done.values()) > 12
