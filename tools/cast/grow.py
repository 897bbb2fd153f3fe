"""Grow the cast and write its meshes.  python tools/cast/grow.py [--bodies] [FOLDER] [otter|newt|beetle|bat|seal|larva|bust …]

Bodies are the frozen ones of 0.3, into which faces are put; --bodies grows them anew first.
"""

import gzip
import importlib
import sys
from pathlib import Path

import mesher
import numpy as np
from creatures import lined
from faces import half_of, opened, with_face

CAST = ("otter", "newt", "beetle", "bat", "seal", "larva", "bust")
ROOT = Path(__file__).resolve().parent.parent.parent
OUT, PLAIN = ROOT / "vonkel/demo/data", ROOT / "tests/data/heads"


def normals(points, faces):
    out = np.zeros_like(points)
    for k in range(faces.shape[1]):
        a, b, c = points[faces[:, k]], points[np.roll(faces, -1, 1)[:, k]], points[np.roll(faces, 1, 1)[:, k]]
        np.add.at(out, faces[:, k], np.cross(b - a, c - a))
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)


def write(path, found, tint):
    """An OBJ of parts, name → points, faces; tint(name, points, normals) → colours (n, 3) 0–255."""
    lines, base = [], 1
    for name, (points, faces) in found.items():
        lines.append(f"o {name}")
        points = points.round(5)
        tints = np.clip(tint(name, points, normals(points, faces)), 0, 255) / 255
        for p, c in zip(points, tints, strict=True):
            lines.append("v {:.5f} {:.5f} {:.5f} {:.2f} {:.2f} {:.2f}".format(*(p + 0.0), *c))
        for f in faces:
            corners = [c for k, c in enumerate(f) if c != f[k - 1]]
            lines.append("f " + " ".join(str(c + base) for c in corners))
        base += len(points)
    path.write_text("\n".join(lines) + "\n")
    print(path.name, base - 1, "points")


def read(name):
    """The parts of a mesh of 0.3, before it had a face: name → points, faces (quads; triangles repeat a corner)."""
    found, base, part = {}, 1, ""
    with gzip.open(PLAIN / f"{name}-0.3.obj.gz", "rt") as lines:
        for line in lines:
            kind, *words = line.split()
            if kind == "o":
                base += len(found[part][0]) if found else 0
                part = " ".join(words)
                found[part] = ([], [])
            elif kind == "v":
                found[part][0].append([float(w) for w in words[:3]])
            elif kind == "f":
                face = [int(w) - base for w in words]
                found[part][1].append(face + face[-1:] * (4 - len(face)))
    return {n: (np.array(p), np.array(f)) for n, (p, f) in found.items()}


def faced(made, points, faces):
    """A body with lids and lips: points, faces, how far inside each point is, which lip it is of."""
    half = half_of(points, faces)[:2]
    points, faces, lining, lip = with_face(made.body, made.EYE, made.MOUTH, *half)
    middle = points[:, 0] <= 0
    off = np.flatnonzero(~middle)
    partner = np.arange(len(points))
    partner[off] = len(points) + np.arange(len(off))
    # The other side's faces begin at the same corner, so that they are cut into triangles as these are.
    faces = np.vstack([faces, partner[faces][:, [0, 3, 2, 1]]])
    whole = np.vstack([points, points[off] * [-1, 1, 1]])
    return whole, faces, np.r_[lining, lining[~middle]], np.r_[lip, lip[~middle]]


def member(folder, name, again):
    """Write one of the cast: with `again` grown anew, else from the mesh of 0.3.  See creatures.py for what a module gives."""
    made = importlib.import_module(name)
    if again:
        print("the body of", name)
        half, triangles = mesher.march_half(made.body, *made.BOX, made.CELL)
        body = mesher.whole(*mesher.quads(made.body, half, triangles, made.WANTED, made.warp))
    else:
        body = read(name)["body"]
    points, faces, lining, lip = faced(made, *body)

    def tint(part, p, n):
        c = made.paint(part, p, n)
        return lined(c, lining, lip == 0) if part == "body" else c

    write(folder / f"{name}.obj", {"body": (points, faces)} | made.extras(), tint)
    if name == "otter":
        wide = opened(made.body, made.MOUTH, points, lip, made.GAP)
        write(folder / "otter-mouth-open.obj", {"body": (wide, faces)}, tint)


def main():
    words = [w for w in sys.argv[1:] if not w.startswith("--")]
    names = [w for w in words if w in CAST] or CAST
    folder = Path(next((w for w in words if w not in CAST), OUT))
    for name in names:
        member(folder, name, "--bodies" in sys.argv)


if __name__ == "__main__":
    main()
