"""Faults that are planted in a well bound body are told of, and nothing is told of it without them."""

import pytest

from tests.judging.faults import planted, told
from tests.judging.posing import at_rest
from tests.judging.skins import bound
from vonkel.core.skin.strays import held_elsewhere
from vonkel.core.trials import run_trials
from vonkel.core.weights import table_of, with_table


@pytest.mark.parametrize("name", ["newt"])
def test_planted_faults_are_told(name):
    found = list(planted(name))
    kinds = {n for n, _ in found}
    assert len(kinds) == 5 and len(found) >= 15
    assert sum(ok for _, ok in found) >= 0.95 * len(found), [n for n, ok in found if not ok]


def test_of_clean_bodies_no_card_tells_of_points_left_behind_rough_or_uneven():
    cards = [k for name in ("otter", "newt", "beetle") for k in run_trials(bound(at_rest(name)[1])[0], pictures=False)]
    false = [k.name for k in cards if any(k.found[m].share > 1 for m in ("left_behind", "rough", "uneven"))]
    assert len(false) <= len(cards) / 20


def test_swapped_weights_are_told_by_name():
    c = bound(at_rest("beetle")[1])[0]
    assert held_elsewhere(c) == ()
    table = table_of(c)
    a, b = table.of("feeler_4_L"), table.of("feeler_3_L")
    swapped = with_table(c, table.replaced("feeler_4_L", b).replaced("feeler_3_L", a))
    assert set(held_elsewhere(swapped)) == {("feeler_3_L", "feeler_4_L"), ("feeler_4_L", "feeler_3_L")}
    assert any("hold others' flesh" in t for t in told(swapped))
