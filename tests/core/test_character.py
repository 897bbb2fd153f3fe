"""The character: immutable, hashed, looked up."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vonkel.core.character import Arrays, Character, Joint, content_hash, opposite_name, unique_name
from vonkel.core.errors import NotFound


def test_arrays_are_read_only_and_shared():
    mine = np.arange(6.0)
    a = Arrays({"x": mine})
    mine[0] = 9
    assert a["x"][0] == 0
    with pytest.raises(ValueError):
        a["x"][0] = 1
    b = a.with_(y=np.ones(2))
    assert b["x"] is a["x"] and "y" not in a
    assert list(b.with_(x=None)) == ["y"]


def test_hash_tells_shape_and_type_apart():
    zeros = np.zeros(4, np.float32)
    assert len({content_hash(x) for x in (zeros, zeros.reshape(2, 2), zeros.astype(np.float64), zeros + 1)}) == 4


def test_a_changed_copy_forgets_what_was_worked_out():
    c = Character(name="a", joints=(Joint(name="x", place=(0, 0, 0)),))
    assert c.joint("x").name == "x"
    changed = c.with_(joints=(Joint(name="y", place=(0, 0, 0)),))
    assert changed.joint("y").name == "y" and changed.key != c.key
    with pytest.raises(NotFound, match="no joint called “x”"):
        changed.joint("x")


@given(st.lists(st.sampled_from(["arm_L", "arm_R", "tail", "arm 2_L"]), max_size=12))
def test_names_made_unique_never_clash_and_keep_their_side(wanted):
    taken: set[str] = set()
    for w in wanted:
        name = unique_name(w, taken)
        assert name not in taken
        assert name[-2:] == w[-2:] if w != "tail" else name.startswith("tail")
        taken.add(name)
    assert len(taken) == len(wanted)


def test_opposite_names():
    assert (
        opposite_name("hand_L") == "hand_R" and opposite_name("hand_R") == "hand_L" and opposite_name("tail") == "tail"
    )
