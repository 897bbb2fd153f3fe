"""The weight table against a dense twin: every operation once, on seeded tables."""

import numpy as np
import pytest
from scipy.sparse import csr_matrix

from vonkel.core.weights import WeightTable

NAMES = ("a", "b_L", "b_R", "c", "d")
N = 60


@pytest.fixture(params=range(4))
def both(request):
    """(table, its dense twin): rows that sum to one, most of them held by two or three joints."""
    random = np.random.default_rng(request.param)
    dense = random.random((N, len(NAMES))) * (random.random((N, len(NAMES))) < 0.5)
    dense[np.arange(N), random.integers(0, len(NAMES), N)] += 0.3
    dense /= dense.sum(1, keepdims=True)
    return WeightTable.from_dense(NAMES, dense), dense


def same(table, dense):
    assert np.abs(table.dense() - dense).max() < 1e-12


def strongest(dense, influences):
    """The dense twin of pruning: the largest of each row, less the one that comes next."""
    k = min(influences, dense.shape[1])
    if k < dense.shape[1]:
        dense = np.maximum(dense - np.sort(dense, 1)[:, ::-1][:, k : k + 1], 0.0)
    index = np.argsort(-dense, axis=1, kind="stable")[:, :k]
    values = np.take_along_axis(dense, index, 1)
    values[values < 1e-3] = 0.0
    values[values.sum(1) <= 0, 0] = 1.0
    return index, values / values.sum(1, keepdims=True)


def test_rows_of_a_skin_go_in_and_come_out(both):
    table, dense = both
    index, weights = strongest(dense, 8)
    again = WeightTable.from_rows(NAMES, index, weights)
    assert np.abs(again.dense() - dense).max() < 1e-3 + 1e-6  # what is below the floor is dropped
    assert table.of("c") == pytest.approx(dense[:, 3])
    assert not table.of("nobody").any()


def test_columns_in_another_order_new_ones_and_heirs(both):
    table, dense = both
    same(table.with_joints(("d", "new", "a")), np.stack([dense[:, 4], np.zeros(N), dense[:, 0]], 1))
    heirs = table.given_over({"b_L": "a", "d": "new"})
    assert heirs.joints == ("a", "b_R", "c", "new")
    same(heirs, np.stack([dense[:, 0] + dense[:, 1], dense[:, 2], dense[:, 3], dense[:, 4]], 1))


def test_scaled_added_and_replaced(both):
    table, dense = both
    same(table.scaled({"a": 0.5, "c": 0.0}), dense * [0.5, 1, 1, 0, 1])
    amounts = np.linspace(-0.5, 0.5, N)
    twin = dense.copy()
    twin[:, 3] = np.maximum(twin[:, 3] + amounts, 0)
    same(table.added("c", amounts), twin)
    new = np.linspace(0, 1, N)
    twin = np.concatenate([dense, new[:, None]], 1)
    same(table.replaced("new", new), twin)


def test_smoothed_towards_the_neighbours(both):
    table, dense = both
    ring = np.zeros((N, N))
    for i in range(N):
        ring[i, (i + 1) % N] = ring[i, i - 1] = 0.5
    same(table.smoothed(csr_matrix(ring), 0.4), 0.6 * dense + 0.4 * ring @ dense)
    some = np.array([3, 4, 5])
    twin = dense.copy()
    twin[some] = 0.6 * dense[some] + 0.4 * (ring @ dense)[some]
    same(table.smoothed(csr_matrix(ring), 0.4, some), twin)
    assert np.abs(table.smoothed(csr_matrix(ring), 0.4).sums() - 1).max() < 1e-12


def test_locked_joints_keep_what_they_hold(both):
    table, dense = both
    painted = table.added("b_L", np.full(N, 0.4)).normalised()
    made = painted.locked(table, {"a", "c"})
    at = [made.joints.index(n) for n in NAMES]
    now = made.dense()[:, at]
    assert np.abs(now[:, [0, 3]] - dense[:, [0, 3]]).max() < 1e-12
    assert np.abs(now.sum(1) - 1).max() < 1e-12
    free, wanted = now[:, [1, 2, 4]], painted.dense()[:, [1, 2, 4]]
    left = 1 - dense[:, [0, 3]].sum(1)
    assert np.abs(free - wanted * (left / wanted.sum(1))[:, None]).max() < 1e-12
    all_locked = painted.locked(table, set(NAMES))
    assert np.abs(all_locked.with_joints(NAMES).dense() - dense).max() < 1e-12


def test_mirrored_twice_is_the_same(both):
    table, dense = both
    other, partner = np.arange(N)[::-1], {"b_L": "b_R", "b_R": "b_L"}
    once = table.mirrored(other, partner)
    assert np.abs(once.with_joints(NAMES).dense() - dense[other][:, [0, 2, 1, 3, 4]]).max() < 1e-12
    same(once.mirrored(other, partner).with_joints(NAMES), dense)


@pytest.mark.parametrize("influences", [1, 2, 4, 8])
def test_pruned_as_its_dense_twin(both, influences):
    table, dense = both
    index, weights = strongest(dense, influences)
    twin = np.zeros_like(dense)
    np.add.at(twin, (np.arange(N)[:, None], index), weights)
    made = table.pruned(influences)
    assert np.abs(made.dense() - twin).max() < 1e-6
    assert (np.diff(made.held.indptr) <= influences).all()
    i, w = table.rows(influences)
    assert i.shape == w.shape == (N, influences) and i.dtype == np.uint16 and w.dtype == np.float32
    assert np.abs(w.sum(1) - 1).max() < 1e-6


def test_normalised_leaves_empty_rows_empty():
    table = WeightTable.from_dense(("a", "b"), np.array([[2.0, 2.0], [0.0, 0.0]]))
    same(table.normalised(), np.array([[0.5, 0.5], [0.0, 0.0]]))


def test_rows_given_to_one_joint(both):
    table, dense = both
    twin = np.concatenate([dense, np.zeros((N, 1))], 1)
    twin[[2, 7]] = 0.0
    twin[[2, 7], 5] = 1.0
    same(table.given_rows(np.array([2, 7]), "new"), twin)
