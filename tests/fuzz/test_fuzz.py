"""A bounded share of the fuzzing; `python -m tests.fuzz 20000` does the rest."""

import resource

import pytest

from tests.fuzz.run import fuzz
from tests.fuzz.seeds import seeds

SHARE = {"obj": 600, "ply": 900, "svg": 900, "gltf": 900, "rigged": 600, "vonkel": 300, "recipe": 400, "plan": 400}


@pytest.mark.parametrize("reader", SHARE)
def test_no_damaged_file_gets_past_or_brings_it_down(reader):
    found = fuzz(reader, SHARE[reader], seed=7)
    assert found.faults == []
    assert found.refused > SHARE[reader] // 5  # the damage bites
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024**2 < 6  # GB, of the whole test run


def test_whole_files_of_every_kind_are_read():
    from vonkel.core.formats import read_character

    for reader in ("obj", "ply", "svg", "gltf", "rigged"):
        for name, data in seeds()[reader]:
            assert len(read_character(name, data).points)
