"""Grow the cast and write its meshes.  python tools/cast/grow.py [FOLDER] [otter|newt|beetle|bat|seal|larva|bust …]"""

import importlib
import sys
from pathlib import Path

import mesher
import numpy as np
import otter
import paint
from fields import vec

CAST = ("otter", "newt", "beetle", "bat", "seal", "larva", "bust")
OUT = Path(__file__).resolve().parent.parent.parent / "vonkel/demo/data"


def teeth(side):
    """Closed rounded teeth along the arc, both halves, one part."""
    points, faces, n = [], [], 0
    for i in range(7):
        angle = 1.45 * (i + 0.5) / 7
        c = vec(0.040 * np.sin(angle), 0, 0.098 + 0.052 * np.cos(angle))
        c[1] = otter.lip_line(c[None])[0] + side * 0.0085
        p, f = mesher.ball((0, 0, 0), 1, (0, 1, 0), 12, 8)
        p = np.sign(p) * np.abs(p) ** 0.7 * vec(0.0048, 0.009 if i == 2 else 0.0062, 0.0036)
        turn = np.array([[np.cos(angle), 0, -np.sin(angle)], [0, 1, 0], [np.sin(angle), 0, np.cos(angle)]])
        p = otter.to_world(p @ turn + c)
        for x in (1, -1):
            points.append(p * [x, 1, 1])
            faces.append((f if x > 0 else f[:, ::-1]) + n)
            n += len(p)
    return np.vstack(points), np.vstack(faces)


def parts():
    """Name → points, faces; and the body's points with the mouth open."""
    print("the body")
    half, triangles = mesher.march_half(otter.body, *otter.BOX, 0.0034)
    half, faces, middle = mesher.quads(otter.body, half, triangles, 1900, otter.warp)
    opened, _ = mesher.whole(half, faces, middle)
    shut, faces = mesher.whole(otter.close_mouth(half), faces, middle)
    found = {"body": (shut, faces)}
    for x, name in ((1, "left"), (-1, "right")):
        p, f = mesher.ball(otter.to_world(otter.EYE), otter.EYE_RADIUS * otter.HEAD_SCALE, otter.SIGHT)
        found[f"eye {name}"] = (p * [x, 1, 1], f if x > 0 else f[:, ::-1])
    for side, name in ((1, "upper"), (-1, "lower")):
        print("mouth", name)
        found[f"gum {name}"] = mesher.whole(
            *mesher.triangles_even(otter.gum(side), (0, 0.86, 0.05), (0.09, 1.06, 0.28), 0.0020, 0.006)
        )
        found[f"teeth {name}"] = teeth(side)
    found["tongue"] = mesher.whole(
        *mesher.triangles_even(otter.tongue, (0, 0.85, 0), (0.09, 1.0, 0.28), 0.0024, 0.0075)
    )
    return found, opened


def normals(points, faces):
    out = np.zeros_like(points)
    for k in range(faces.shape[1]):
        a, b, c = points[faces[:, k]], points[np.roll(faces, -1, 1)[:, k]], points[np.roll(faces, 1, 1)[:, k]]
        np.add.at(out, faces[:, k], np.cross(b - a, c - a))
    return out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)


def colours(name, points, faces):
    if name == "body":
        return paint.fur(points, normals(points, faces))
    if name.startswith("eye"):
        way = otter.SIGHT / np.linalg.norm(otter.SIGHT) * ([-1, 1, 1] if "right" in name else [1, 1, 1])
        return paint.eye(points, points.mean(0), otter.EYE_RADIUS * otter.HEAD_SCALE, way)
    return np.tile(np.array(paint.PLAIN[name.split()[0]], float), (len(points), 1))


def write(path, found, tint=colours):
    lines, base = [], 1
    for name, (points, faces) in found.items():
        lines.append(f"o {name}")
        tints = np.clip(tint(name, points, faces), 0, 255) / 255
        for p, c in zip(points.round(5), tints, strict=True):
            lines.append("v {:.5f} {:.5f} {:.5f} {:.2f} {:.2f} {:.2f}".format(*p, *c))
        for f in faces:
            corners = [c for k, c in enumerate(f) if c != f[k - 1]]
            lines.append("f " + " ".join(str(c + base) for c in corners))
        base += len(points)
    path.write_text("\n".join(lines) + "\n")
    print(path, base - 1, "points")


def otter_meshes(folder):
    found, opened = parts()
    write(folder / "otter.obj", found)
    write(folder / "otter-mouth-open.obj", {"body": (opened, found["body"][1])})


def creature_mesh(folder, name):
    """One of the smaller cast from its module; see creatures.py for what a module gives."""
    made = importlib.import_module(name)
    half, triangles = mesher.march_half(made.body, *made.BOX, made.CELL)
    half, faces, middle = mesher.quads(made.body, half, triangles, made.WANTED, made.warp)
    found = {"body": mesher.whole(half, faces, middle)} | made.extras()
    write(folder / f"{made.FILE}.obj", found, lambda name, p, f: made.paint(name, p, normals(p, f)))


def main():
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else OUT
    for name in sys.argv[2:] or CAST:
        print(name)
        otter_meshes(folder) if name == "otter" else creature_mesh(folder, name)


if __name__ == "__main__":
    main()
