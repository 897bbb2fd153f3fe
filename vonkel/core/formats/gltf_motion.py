"""Reading the motion of a glTF 2.0 file: its skeleton's joints at every frame, whatever its nodes' own axes are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from ..errors import BadFile
from ..motion.capture import Capture, capture_from
from ..tolerances import MAX_CLIP_VALUES
from .gltf import local_matrix
from .gltf_tree import Tree
from .reading import each_once, on_time, reading

PACES = (24.0, 25.0, 30.0, 48.0, 50.0, 60.0, 100.0, 120.0)
WIDTH = {"translation": 3, "rotation": 4, "scale": 3}


def read(name: str, data: bytes, beside: Mapping[str, bytes] | None = None, take: int = 0) -> Capture:
    """The motion numbered `take`.  Raises BadFile."""
    with reading(name, "motion"):
        return _read(Tree(name, data, beside), take)


def _read(tree: Tree, take: int) -> Capture:
    if not tree.list("animations"):
        raise BadFile("It holds no motion.", tree.name, "Export it with its motions.")
    animation = tree.get("animations", take)
    nodes = [tree.get("nodes", i) for i in range(len(tree.list("nodes")))]
    up = _parents(tree, nodes)
    downwards = _parents_first(up)
    if len(downwards) < len(nodes):
        raise BadFile("Its nodes hang in a circle.", tree.name, "Export it again.")
    samplers = _samplers(tree, animation)
    if not samplers:
        raise BadFile("Its motion moves no node.", tree.name, "Export it again.")
    end = max(float(t[-1]) for _, _, t, _, _ in samplers)
    start = min(float(t[0]) for _, _, t, _, _ in samplers)
    rate = _pace(samplers)
    count = max(round((end - start) * rate), 0) + 1
    if count * len(nodes) * 12 > MAX_CLIP_VALUES:
        raise BadFile(f"It would be {count:,} frames.", tree.name, "Cut it into shorter motions.")
    at = start + np.arange(count) / rate
    rest = _worlds(up, downwards, [local_matrix(n)[None] for n in nodes])
    local = _locals(nodes, samplers, at)
    world = _worlds(up, downwards, local)
    rows = _joints(tree, nodes, up, {k for k, *_ in samplers})
    parents = []
    for r in rows:
        p = up[r]
        while p >= 0 and p not in rows:
            p = up[p]
        parents.append(rows.index(p) if p >= 0 else -1)
    first = parents.index(-1)
    parents = [first if p < 0 and k != first else p for k, p in enumerate(parents)]
    order = _parents_first(parents)
    number = {k: i for i, k in enumerate(order)}
    names = each_once([str(nodes[rows[k]].get("name") or f"node {rows[k]}")[:80] for k in order])
    places = np.stack([world[rows[k]][:, :3, 3] for k in order], 1)
    turns = np.stack([_turn(world[rows[k]]) @ np.swapaxes(_turn(rest[rows[k]]), 1, 2) for k in order], 1)
    stands = np.stack([rest[rows[k]][0, :3, 3] for k in order])
    up_of = [number[parents[k]] if parents[k] >= 0 else -1 for k in order]
    return capture_from(names, up_of, stands, places, turns, rate)


def _parents(tree: Tree, nodes: list[dict[str, Any]]) -> list[int]:
    up = [-1] * len(nodes)
    for i, n in enumerate(nodes):
        for k in n.get("children", []):
            tree.get("nodes", k)
            if up[k] >= 0 or k == i:
                raise BadFile("A node hangs in two places.", tree.name, "Export it again.")
            up[k] = i
    return up


Sampled = tuple[int, str, np.ndarray, np.ndarray, str]  # node, path, times (k,), values, how it goes between


def _samplers(tree: Tree, animation: dict[str, Any]) -> list[Sampled]:
    out = []
    for channel in animation.get("channels", []):
        target = channel.get("target", {})
        path, node = target.get("path"), target.get("node")
        if path not in WIDTH or node is None:
            continue
        tree.get("nodes", node)
        sampler = animation.get("samplers", [])[channel.get("sampler", -1)]
        times = np.asarray(tree.accessor(sampler.get("input")), float).ravel()
        values = np.asarray(tree.accessor(sampler.get("output")), float)
        how = str(sampler.get("interpolation", "LINEAR"))
        if how == "CUBICSPLINE":  # in-tangent, value, out-tangent: values alone are near enough at keys this dense
            values = values.reshape(len(times), 3, -1)[:, 1]
        if not len(times) or len(values) != len(times) or (np.diff(times) <= 0).any() or not np.isfinite(values).all():
            raise BadFile("The keys of its motion are out of order.", tree.name, "Export it again.")
        if path == "rotation":
            values = values / np.maximum(np.linalg.norm(values, axis=1, keepdims=True), 1e-12)
        out.append((int(node), str(path), times, values, how))
    return out


def _pace(samplers: list[Sampled]) -> float:
    """Frames a second: the nearest usual rate to that of the densest keys, or theirs."""
    gaps = [float(np.median(np.diff(t))) for _, _, t, _, _ in samplers if len(t) > 1]
    own = 1.0 / max(min(gaps), 1e-3) if gaps else 30.0
    near = min(PACES, key=lambda r: abs(r - own))
    return near if abs(near - own) < 0.02 * own else min(max(own, 5.0), 240.0)


def _locals(nodes: list[dict[str, Any]], samplers: list[Sampled], at: np.ndarray) -> list[np.ndarray]:
    """(f or 1, 4, 4) of each node in its parent."""
    moved: dict[int, dict[str, np.ndarray]] = {}
    for node, path, times, values, how in samplers:
        on_time()
        when = np.clip(at, times[0], times[-1])
        if how == "STEP" or len(times) == 1:
            got = values[np.clip(np.searchsorted(times, when + 1e-9, side="right") - 1, 0, len(times) - 1)]
        elif path == "rotation":
            got = Slerp(times, Rotation.from_quat(values))(when).as_quat()
        else:
            got = np.stack([np.interp(when, times, values[:, k]) for k in range(values.shape[1])], 1)
        moved.setdefault(node, {})[path] = got
    out = []
    for i, n in enumerate(nodes):
        own = moved.get(i)
        if own is None:
            out.append(local_matrix(n)[None])
            continue
        place = own.get("translation", np.array(n.get("translation", [0.0, 0.0, 0.0]), float)[None])
        turn = own.get("rotation", np.array(n.get("rotation", [0.0, 0.0, 0.0, 1.0]), float)[None])
        size = own.get("scale", np.array(n.get("scale", [1.0, 1.0, 1.0]), float)[None])
        m = np.tile(np.eye(4), (len(at), 1, 1))
        m[:, :3, :3] = Rotation.from_quat(turn).as_matrix() * size[:, None, :]
        m[:, :3, 3] = place
        out.append(m)
    return out


def _worlds(up: list[int], order: list[int], local: list[np.ndarray]) -> list[np.ndarray]:
    """(f, 4, 4) of each node in the world."""
    out = list(local)
    for i in order:
        if up[i] >= 0:
            out[i] = out[up[i]] @ local[i]
    count = max(len(m) for m in local)
    return [np.broadcast_to(m, (count, 4, 4)) for m in out]


def _turn(m: np.ndarray) -> np.ndarray:
    """(f, 3, 3): the rotation of matrices (f, 4, 4) that may size, too."""
    u, _, v = np.linalg.svd(m[:, :3, :3])
    return np.asarray(u @ v)


def _joints(tree: Tree, nodes: list[dict[str, Any]], up: list[int], moved: set[int]) -> list[int]:
    """The nodes that are the skeleton: a skin's joints with what they hang from, or what moves and what that hangs from."""
    found = set()
    if tree.list("skins"):
        found = {int(k) for k in tree.get("skins", 0).get("joints", []) if isinstance(k, int) and 0 <= k < len(nodes)}
    out = set()
    for start in found or moved:
        at = start
        while at >= 0:
            out.add(at)
            at = up[at]
    kids = {i: [k for k in out if up[k] == i] for i in out}
    top = next((i for i in out if up[i] not in out), -1)
    while top >= 0 and top not in found | moved and len(kids[top]) == 1:  # what only holds the skeleton
        out.discard(top)
        top = kids[top][0]
    return sorted(out)


def _parents_first(parents: list[int]) -> list[int]:
    """Rows in an order in which each comes after its parent (−1: none); rows that hang in a circle are in none."""
    kids: list[list[int]] = [[] for _ in parents]
    for k, up in enumerate(parents):
        if up >= 0:
            kids[up].append(k)
    order = [k for k, up in enumerate(parents) if up < 0]
    for k in order:  # it grows as it is gone through
        order += kids[k]
    return order
