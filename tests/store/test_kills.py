"""Recipes, edits of an early step and duplicates are there whole or not at all, whenever the program dies."""

from tests.store.kills import trouble


def test_killed_work_is_whole_or_not_at_all():
    found, early = trouble(8, seed=4)
    assert found == []
    assert early > 4  # the kills do come in the middle
