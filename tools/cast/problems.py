"""Two small untidy meshes that show what the findings find.  .venv/bin/python tools/cast/problems.py [FOLDER]

`cracked.obj`: a lantern imp with a hole, doubled, flat and turned faces, a dented side, a stray island, loose points.
`crated.glb`: the same imp as it comes out of a careless export: in centimetres under a node of scale 0.01, lying on its
back, every face with points of its own.
"""

import sys
from pathlib import Path

import numpy as np

from vonkel.core.formats.gltf_tree import Writer

OUT = Path(__file__).resolve().parent.parent.parent / "vonkel/demo/data"


def lathe(profile, around, low, high):
    """Quads round a line from low to high (3,); profile rows are (radius, share of the way); closed by fans."""
    low, high = np.array(low, float), np.array(high, float)
    way = high - low
    side = np.cross(way, [0.0, 0.0, 1.0])
    side /= np.linalg.norm(side)
    other = np.cross(side, way / np.linalg.norm(way))
    angle = 2 * np.pi * np.arange(around) / around
    ring = np.outer(np.cos(angle), side) + np.outer(np.sin(angle), other)
    points = np.vstack(
        [low + way * t + ring * r for r, t in profile] + [low + way * profile[0][1], low + way * profile[-1][1]]
    )
    faces = []
    for r in range(len(profile) - 1):
        for i in range(around):
            k = (i + 1) % around
            faces.append([r * around + i, (r + 1) * around + i, (r + 1) * around + k, r * around + k])
    last = (len(profile) - 1) * around
    for i in range(around):
        k = (i + 1) % around
        faces.append([len(points) - 2, i, k])
        faces.append([len(points) - 1, last + k, last + i])
    return points, faces


def imp():
    """A lantern on two legs with two arms: points and faces, one piece a limb, mirrored to the bit."""
    body = [
        (0.06, 0.0),
        (0.15, 0.06),
        (0.20, 0.2),
        (0.22, 0.4),
        (0.20, 0.6),
        (0.13, 0.75),
        (0.05, 0.82),
        (0.05, 0.9),
        (0.02, 1.0),
    ]
    limb = [(0.035, 0.0), (0.045, 0.1), (0.04, 0.35), (0.042, 0.5), (0.036, 0.65), (0.04, 0.9), (0.02, 1.0)]
    pieces = [lathe(body, 24, (0, 0.22, 0), (0, 0.80, 0))]
    for low, high in (((0.18, 0.50, 0), (0.46, 0.40, 0.02)), ((0.09, 0.27, 0), (0.10, 0.0, 0.02))):
        points, faces = lathe(limb, 12, low, high)
        pieces += [(points, faces), (points * [-1, 1, 1], [f[::-1] for f in faces])]
    points, faces, n = [], [], 0
    for p, f in pieces:
        points.append(p)
        faces += [[v + n for v in face] for face in f]
        n += len(p)
    points = np.vstack(points).round(5)
    volume = sum(
        float(points[f[0]] @ np.cross(points[f[i]], points[f[i + 1]]))
        for f in faces[:200]
        for i in range(1, len(f) - 1)
    )
    return points, faces if volume > 0 else [f[::-1] for f in faces]


def cracked(points, faces):
    points, faces = points.copy(), [list(f) for f in faces]
    front = [
        i for i, f in enumerate(faces[:192]) if points[f][:, 2].mean() > 0.19 and abs(points[f][:, 0].mean()) < 0.05
    ]
    hole = set(front[:2])
    dent = (np.abs(points - [-0.19, 0.52, 0.05]).max(1) < 0.06) & (points[:, 0] < 0)
    points[dent, 0] += 0.012
    doubled = [faces[i] for i in (60, 61, 62)]
    turned = {100, 101, 102, 103}
    faces = [f[::-1] if i in turned else f for i, f in enumerate(faces) if i not in hole]
    faces += doubled
    faces.append([5, 5 + 24, 5 + 24])  # no area
    crumb = np.array([[0.5, 0.7, 0.1], [0.52, 0.7, 0.1], [0.51, 0.72, 0.1], [0.51, 0.71, 0.12]])
    n = len(points)
    points = np.vstack([points, crumb, [[0.3, 0.9, 0.0], [-0.2, 0.95, 0.1]]])
    faces += [[n, n + 1, n + 2], [n, n + 3, n + 1], [n + 1, n + 3, n + 2], [n + 2, n + 3, n]]
    return points, faces


def write_obj(path, points, faces):
    lines = ["o imp"] + ["v {:.5f} {:.5f} {:.5f}".format(*p) for p in points]
    lines += ["f " + " ".join(str(v + 1) for v in f) for f in faces]
    path.write_text("\n".join(lines) + "\n")


def write_glb(path, points, faces):
    triangles = np.array([[f[0], f[i], f[i + 1]] for f in faces for i in range(1, len(f) - 1)])
    lying = points[:, [0, 2, 1]] * [1, -1, 1] * 100.0  # up is Z here, and centimetres
    own = lying[triangles].reshape(-1, 3)
    rng = np.random.default_rng(7)
    own = (own + rng.uniform(-2e-3, 2e-3, own.shape)).astype(np.float32)  # so that no two corners quite agree
    w = Writer()
    primitive = {
        "attributes": {"POSITION": w.add(own, "VEC3", 34962, bounds=True)},
        "indices": w.add(np.arange(len(own), dtype=np.uint32), "SCALAR", 34963),
    }
    node = {"name": "imp", "mesh": 0, "scale": [0.01, 0.01, 0.01], "translation": [0.4, 0.0, 0.3]}
    tree = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [node],
        "meshes": [{"name": "imp", "primitives": [primitive]}],
    }  # fmt: skip
    path.write_bytes(w.glb(tree))


if __name__ == "__main__":
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else OUT
    mesh = imp()
    write_obj(folder / "cracked.obj", *cracked(*mesh))
    write_glb(folder / "crated.glb", *mesh)
