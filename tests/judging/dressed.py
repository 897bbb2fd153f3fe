"""Figures with what they wear and hold, each thing a part of its own under a name that says nothing.

Cut and turned from the body that wears them: garments as shells off its skin, rings, strips of hair, a hat, a staff, buttons.
"""

from __future__ import annotations

import numpy as np

from vonkel.core.character import Character
from vonkel.core.formats.mesh import RawMesh, character_from_mesh
from vonkel.core.geometry.rotations import unit
from vonkel.core.geometry.topology import point_normals, skin_triangles

Piece = tuple[np.ndarray, list[list[int]]]  # points (n, 3) metres and faces


def swept(a: np.ndarray, b: np.ndarray, radii: np.ndarray, around: int = 10) -> Piece:
    """A closed round thing along a line: a rod, a hat, or for radii that come back to nothing a ball."""
    axis = unit(b - a)
    u = unit(np.cross(axis, [0.31, 0.2, 1.0]))
    w = np.cross(axis, u)
    turn = np.linspace(0, 2 * np.pi, around, endpoint=False)
    circle = np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * w
    at = np.linspace(0, 1, len(radii))
    points = [a + s * (b - a) + r * circle for s, r in zip(at, radii, strict=True)]
    k = np.arange(around)
    sides = np.stack([k, (k + 1) % around, (k + 1) % around + around, k + around], 1)
    faces = [[int(i) for i in row + n * around] for n in range(len(radii) - 1) for row in sides]
    last = (len(radii) - 1) * around
    return np.concatenate(points), [*faces, [int(i) for i in k[::-1]], [int(i) for i in k + last]]


def hoop(middle: np.ndarray, axis: np.ndarray, radius: float, thick: float, around: int = 40) -> Piece:
    """A ring of square section."""
    u = unit(np.cross(unit(axis), [0.31, 0.2, 1.0]))
    w = np.cross(unit(axis), u)
    rows = []
    for turn in np.linspace(0, 2 * np.pi, around, endpoint=False):
        out = np.cos(turn) * u + np.sin(turn) * w
        for r, h in ((0, -1), (1, -1), (1, 1), (0, 1)):
            rows.append(middle + out * (radius + thick * r) + unit(axis) * thick * h)
    ring = lambda b, q: 4 * (b % around) + q % 4  # noqa: E731
    faces = [[ring(b, q), ring(b, q + 1), ring(b + 1, q + 1), ring(b + 1, q)] for b in range(around) for q in range(4)]
    return np.array(rows), faces


def hair(middle: np.ndarray, radius: float, size: float, rng: np.random.Generator, strips: int = 40) -> Piece:
    """Strips that grow out of a head and hang."""
    points: list[np.ndarray] = []
    faces = []
    for _ in range(strips):
        turn, rise = rng.uniform(0.9 * np.pi, 2.1 * np.pi), rng.uniform(0.2, 1.2)
        out = np.array([np.cos(turn) * np.cos(rise), np.sin(rise), np.sin(turn) * np.cos(rise)])
        side, first = unit(np.cross(out, [0, 1, 0])), len(points)
        for s in range(6):
            at = middle + out * (1.02 * radius + 0.02 * size * s) - np.array([0, 0.006 * size * s * s, 0])
            points += [at - 0.01 * size * side, at + 0.01 * size * side]
        faces += [[first + 2 * s + k for k in (0, 1, 3, 2)] for s in range(5)]
    return np.array(points), faces


def things(c: Character, rng: np.random.Generator) -> dict[str, Piece]:
    """What a figure with joints could wear and hold, by name; a thing that finds no place is left out."""
    p, size, at = c.points, c.size, {j.name: np.array(j.place) for j in c.joints}
    normals = point_normals(p, skin_triangles(c))
    starts, corners = c.arrays["face_starts"].astype(int), c.arrays["face_corners"].astype(int)
    bones = [(j.parent, j.name) for j in c.joints if j.parent]
    away = []
    for a, b in bones:
        way = at[b] - at[a]
        t = np.clip((p - at[a]) @ way / (way @ way + 1e-30), 0, 1)
        away.append(np.linalg.norm(p - at[a] - t[:, None] * way, axis=1))
    nearest = np.argmin(away, 0)

    def of(*stems: str) -> np.ndarray:
        return np.isin(nearest, [k for k, (a, _) in enumerate(bones) if a.startswith(stems)])

    def shell(where: np.ndarray, off: float) -> Piece | None:
        keep = [f for f in np.split(corners, starts[1:-1]) if where[f].all()]
        if len(keep) < 20:
            return None
        used, flat = np.unique(np.concatenate(keep), return_inverse=True)
        cuts = np.cumsum([len(f) for f in keep])[:-1]
        return p[used] + normals[used] * off * size, [[int(i) for i in f] for f in np.split(flat, cuts)]

    def round_it(middle: np.ndarray, axis: np.ndarray, where: np.ndarray) -> Piece | None:
        cut = (np.abs((p - middle) @ unit(axis)) < 0.015 * size) & where
        wide = np.linalg.norm(p[cut] - middle, axis=1)
        return hoop(middle, axis, 1.05 * float(wide.max()), 0.012 * size) if len(wide) else None

    skull, tip = at["head"], at["head_end"]
    neck = at.get("neck", at.get("neck_1", skull))
    own = p[of("head")]
    radius = float(np.quantile(np.linalg.norm(own - 0.5 * (skull + tip), axis=1), 0.6))
    top = own[own[:, 1].argmax()]
    out: dict[str, Piece | None] = {}
    if c.plan == "biped":
        out["shirt"] = shell(of("hips", "spine", "chest", "collar", "upper_arm"), 0.006)
        out["trousers"] = shell(of("hips", "thigh", "shin") & (p[:, 1] < at["hips"][1] + 0.04 * size), 0.005)
        out["belt"] = round_it(at["hips"], at["chest"] - at["hips"], of("hips", "spine"))
        hand = at["hand_end_L"] if "hand_end_L" in at else at["hand_L"]
        reach = np.array([0, 0.35 * size, 0])
        out["staff"] = swept(hand - reach, hand + reach, np.full(20, 0.01 * size))
    else:
        out["blanket"] = shell(of("hips", "spine", "chest") & (normals[:, 1] > 0.1), 0.006)
    if np.linalg.norm(skull - neck) > 1e-6:
        out["collar"] = round_it(0.5 * (neck + skull), skull - neck, of("neck"))
    out["hair"] = hair(0.5 * (skull + tip), radius, size, rng)
    up = np.array([0, size, 0])
    out["hat"] = swept(top - 0.01 * up, top + 0.08 * up, np.full(12, 0.4 * radius))
    for k in range(4):
        along = at["hips"] + (0.2 + 0.2 * k) * (at["chest"] - at["hips"])
        place = p[np.linalg.norm(p - along, axis=1).argmin()]
        ball = 0.008 * size * np.sin(np.linspace(0.02, np.pi - 0.02, 7))
        out[f"button_{k}"] = swept(place - [0, 0.008 * size, 0], place + [0, 0.008 * size, 0], ball)
    return {name: piece for name, piece in out.items() if piece is not None}


def dressed(c: Character, seed: int = 1, only: tuple[str, ...] = ()) -> tuple[Character, dict[str, str]]:
    """(the mesh of a figure with joints and its things, in parts “thing 1” …; the name of each part's thing).  only: stems."""
    points, faces = [c.points], [np.split(c.arrays["face_corners"].astype(int), c.arrays["face_starts"][1:-1])]
    called, names, count = ["body"], {}, len(c.points)
    for name, (places, own) in things(c, np.random.default_rng(seed)).items():
        if only and not name.startswith(only):
            continue
        points.append(places)
        faces.append([np.array(f) + count for f in own])
        count += len(places)
        called.append(f"thing {len(called)}")
        names[called[-1]] = name
    flat = [f for own in faces for f in own]
    starts = np.concatenate([[0], np.cumsum([len(f) for f in flat])])
    parts = np.repeat(np.arange(len(faces)), [len(own) for own in faces])
    mesh = RawMesh(np.concatenate(points), starts, np.concatenate(flat), parts, called)
    return character_from_mesh(mesh, f"{c.name} dressed"), names
