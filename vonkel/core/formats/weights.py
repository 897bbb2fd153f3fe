"""Skin weights as files of their own: JSON with places, to be carried to other meshes; CSV for tables.

JSON: `{"vonkel_weights": 1, "joints": […], "places": [[x, y, z], …], "normals": […], "held": [[[joint, weight], …], …]}`, metres
at rest, joints by their number in the list.  CSV: a line `point,joint,weight` for each weight that isn't zero.
"""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import numpy as np
from scipy.sparse import csr_matrix

from ..character import Character
from ..errors import BadFile
from ..geometry.topology import point_normals, topology_of
from ..skin.carrying import Source, source_of
from ..tolerances import FARTHEST, MAX_JOINTS, MAX_POINTS
from ..weights import WeightTable
from .reading import count, reading

VERSION = 1
DIGITS = 6


def write_json(character: Character) -> bytes:
    """All weights of a character.  Raises StepRefused without a skin."""
    source = source_of(character)
    held = source.table.held
    rows = [
        [[int(j), round(float(w), DIGITS)] for j, w in zip(held.indices[a:b], held.data[a:b], strict=True)]
        for a, b in zip(held.indptr, held.indptr[1:], strict=False)
    ]
    said = {
        "vonkel_weights": VERSION, "joints": list(source.table.joints), "places": np.round(source.places, 7).tolist(),
        "normals": np.round(source.normals, 4).tolist(), "held": rows,
    }  # fmt: skip
    return json.dumps(said, separators=(",", ":")).encode()


def write_csv(character: Character) -> bytes:
    """The same as a table, without places."""
    table = source_of(character).table
    out = io.StringIO()
    lines = csv.writer(out, lineterminator="\n")
    lines.writerow(["point", "joint", "weight"])
    held = table.held.tocoo()
    for p, j, w in sorted(zip(held.row.tolist(), held.col.tolist(), held.data.tolist(), strict=True)):
        lines.writerow([p, table.joints[j], f"{w:.{DIGITS}f}"])
    return out.getvalue().encode()


def read_weights(name: str, data: bytes, character: Character) -> Source:
    """Weights from either kind of file; a table's rows lie where the character's points are.  Raises BadFile, TooLarge."""
    with reading(name):
        return _from_csv(name, data, character) if name.lower().endswith(".csv") else _from_json(name, data)


def _from_json(name: str, data: bytes) -> Source:
    said: Any = json.loads(data)
    if not isinstance(said, dict) or said.get("vonkel_weights") != VERSION:
        raise BadFile("This is no file of weights.", name, "Take one that was saved at the Skin station.")
    joints, held = said["joints"], said["held"]
    if not all(isinstance(n, str) for n in joints) or not 0 < len(set(joints)) == len(joints) <= MAX_JOINTS:
        raise BadFile("Its joints aren't a list of different names.", name, "Save it again.")
    count("points", len(held))
    places, normals = (np.array(said[k], float).reshape(-1, 3) for k in ("places", "normals"))
    if len(places) != len(held) or len(normals) != len(held):
        raise BadFile("It has not as many places as rows of weights.", name, "Save it again.")
    if not np.isfinite(places).all() or np.abs(places).max(initial=0.0) > FARTHEST or not np.isfinite(normals).all():
        raise BadFile("Some of its places are no numbers.", name, "Save it again.")
    rows = [(i, int(j), float(w)) for i, row in enumerate(held) for j, w in row]
    return Source(places, normals, _table(name, tuple(joints), rows, len(held)))


def _from_csv(name: str, data: bytes, character: Character) -> Source:
    lines = list(csv.reader(io.StringIO(data.decode("utf-8-sig"))))
    if not lines or [x.strip().lower() for x in lines[0]] != ["point", "joint", "weight"]:
        raise BadFile("Its first line isn't “point,joint,weight”.", name, "Name its columns so.")
    rows, joints = [], dict[str, int]()
    for number, line in enumerate(lines[1:], 2):
        if not line:
            continue
        try:
            point, joint, weight = int(line[0]), line[1], float(line[2])
        except (ValueError, IndexError):
            raise BadFile(f"Line {number} isn't a point, a joint and a weight.", name, "Mend that line.") from None
        rows.append((point, joints.setdefault(joint, len(joints)), weight))
    n = len(character.points)
    if any(not 0 <= p < n for p, _, _ in rows):
        raise BadFile(
            f"It names points beyond the {n:,} of this mesh.", name, "Use the .json: that is carried by place."
        )
    at = np.unique([p for p, _, _ in rows]).astype(np.int64)
    if len(at) < n:
        raise BadFile(f"It holds {len(at):,} of {n:,} points.", name, "Give every point a weight.")
    normals = point_normals(character.points, topology_of(character).triangles)
    return Source(character.points, normals, _table(name, tuple(joints), rows, n))


def _table(name: str, joints: tuple[str, ...], rows: list[tuple[int, int, float]], n: int) -> WeightTable:
    if n > MAX_POINTS or not rows:
        raise BadFile("It holds no weights.", name, "Save it again.")
    i, j, w = (np.array(v) for v in zip(*rows, strict=True))
    if not np.isfinite(w).all() or w.min() < 0 or j.min() < 0 or j.max() >= len(joints):
        raise BadFile("Some of its weights are negative, no numbers, or of no joint.", name, "Mend them.")
    return WeightTable(joints, csr_matrix((w.astype(float), (i, j)), shape=(n, len(joints)))).normalised()
