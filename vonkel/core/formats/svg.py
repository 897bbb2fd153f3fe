"""SVG paths as drawn lines (W3C SVG 1.1, chapters 7 to 9): path, polyline, polygon, line, circle and ellipse.

One user unit becomes a millimetre, y turns upwards, everything lies in the front plane.  Fills, text, styles and
embedded pictures are passed over; transforms of groups and shapes count.
"""

from __future__ import annotations

import math
import re
import xml.etree.ElementTree as ElementTree

import numpy as np

from ..errors import BadFile
from .mesh import RawMesh

UNIT = 0.001  # metres
NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
MOST_POINTS = 200_000


def read(name: str, data: bytes) -> RawMesh:
    """The lines of a drawing, one piece per shape.  Raises BadFile where it is no SVG or draws nothing."""
    if b"<!ENTITY" in data:
        raise BadFile("The drawing defines entities of its own, which are not read.", name, "Save it as plain SVG.")
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError) as error:
        raise BadFile(f"This is no readable SVG: {error}.", name, "Save it again.") from None
    if not root.tag.endswith("svg"):
        raise BadFile("This is no SVG drawing.", name, "Save it as SVG.")
    found: list[tuple[str, np.ndarray]] = []
    try:
        _walk(root, np.eye(3), found, 0)
    except (ValueError, IndexError, OverflowError) as error:
        raise BadFile(f"A shape can't be read: {error}.", name, "Save the drawing as plain paths.") from None
    if not found:
        raise BadFile("The drawing has no lines.", name, "Turn its shapes and text into paths.")
    points, lines, pieces, at = [], [], [], 0
    for k, (label, line) in enumerate(found):
        closed = len(line) > 2 and np.allclose(line[0], line[-1], atol=1e-9)
        line = line[:-1] if closed else line
        run = list(range(at, at + len(line)))
        lines.append(run + [at] if closed else run)
        points.append(np.c_[line[:, 0] * UNIT, -line[:, 1] * UNIT, np.zeros(len(line))])
        pieces.append(label or f"line {k + 1}")
        at += len(line)
        if at > MOST_POINTS:
            raise BadFile("The drawing has more points than are read.", name, "Simplify its paths.")
    everything = np.concatenate(points)
    everything[:, 1] -= everything[:, 1].min()
    everything[:, 0] -= 0.5 * (everything[:, 0].min() + everything[:, 0].max())
    return RawMesh(
        everything, np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64), pieces, lines=lines,
        line_piece=list(range(len(lines))),
    )  # fmt: skip


def _walk(node: ElementTree.Element, above: np.ndarray, found: list[tuple[str, np.ndarray]], depth: int) -> None:
    if depth > 60:
        raise ValueError("groups are nested too deeply")
    here = above @ _transform(node.get("transform", ""))
    kind = node.tag.rsplit("}", 1)[-1]
    if kind in ("defs", "clipPath", "mask", "symbol", "pattern", "marker"):
        return
    for line in _shape(kind, node):
        if len(line) > 1:
            placed = np.c_[line, np.ones(len(line))] @ here.T
            found.append((node.get("id", ""), placed[:, :2]))
    for child in node:
        if isinstance(child.tag, str):
            _walk(child, here, found, depth + 1)


def _numbers(text: str) -> list[float]:
    return [float(x) for x in NUMBER.findall(text or "")]


def _shape(kind: str, node: ElementTree.Element) -> list[np.ndarray]:
    def get(key: str) -> float:
        values = _numbers(node.get(key, "0"))
        return values[0] if values else 0.0

    if kind == "path":
        return path_lines(node.get("d", ""))
    if kind in ("polyline", "polygon"):
        values = _numbers(node.get("points", ""))
        line = np.array(values[: len(values) // 2 * 2]).reshape(-1, 2)
        return [np.vstack([line, line[:1]]) if kind == "polygon" and len(line) else line]
    if kind == "line":
        return [np.array([[get("x1"), get("y1")], [get("x2"), get("y2")]])]
    if kind in ("circle", "ellipse"):
        rx, ry = (get("r"), get("r")) if kind == "circle" else (get("rx"), get("ry"))
        a = np.linspace(0, 2 * np.pi, 49)
        return [np.c_[get("cx") + rx * np.cos(a), get("cy") + ry * np.sin(a)]] if rx and ry else []
    return []


def _transform(text: str) -> np.ndarray:
    out = np.eye(3)
    for word, inside in re.findall(r"(\w+)\s*\(([^)]*)\)", text):
        v = _numbers(inside)
        m = np.eye(3)
        if word == "matrix" and len(v) == 6:
            m[:2] = np.array(v).reshape(3, 2).T
        elif word == "translate" and v:
            m[:2, 2] = v[0], v[1] if len(v) > 1 else 0.0
        elif word == "scale" and v:
            m[0, 0], m[1, 1] = v[0], v[1] if len(v) > 1 else v[0]
        elif word == "rotate" and v:
            a = math.radians(v[0])
            centre = np.array(v[1:3]) if len(v) > 2 else np.zeros(2)
            m[:2, :2] = [[math.cos(a), -math.sin(a)], [math.sin(a), math.cos(a)]]
            m[:2, 2] = centre - m[:2, :2] @ centre
        elif word in ("skewX", "skewY") and v:
            m[(0, 1) if word == "skewX" else (1, 0)] = math.tan(math.radians(v[0]))
        out = out @ m
    return out


def path_lines(d: str) -> list[np.ndarray]:
    """The sub-paths of path data (SVG 1.1, section 8.3), curves as lines of sixteen pieces."""
    tokens = re.findall(r"[MmLlHhVvCcSsQqTtAaZz]|" + NUMBER.pattern, d)
    lines: list[list[complex]] = []
    at = start = 0j
    last: tuple[str, complex] = ("", 0j)
    command = ""
    k = 0

    def take(count: int) -> list[float]:
        nonlocal k
        values = [float(t) for t in tokens[k : k + count]]
        if len(values) < count:
            raise ValueError("path data ends too early")
        k += count
        return values

    while k < len(tokens):
        if tokens[k].isalpha() and len(tokens[k]) == 1:
            command = tokens[k]
            k += 1
        if not command:
            raise ValueError("path data begins without a command")
        base = at if command.islower() else 0j
        c = command.upper()
        if c == "Z":
            if lines:
                lines[-1].append(start)
            at, last, command = start, ("Z", start), ""
            continue
        if c == "M":
            x, y = take(2)
            at = start = base + complex(x, y)
            lines.append([at])
            command, last = ("l" if command == "m" else "L"), ("M", at)
            continue
        if not lines or last[0] == "Z":
            lines.append([at])
        pieces: list[complex] = []
        if c == "L":
            x, y = take(2)
            pieces = [base + complex(x, y)]
        elif c == "H":
            pieces = [complex(base.real + take(1)[0], at.imag)]
        elif c == "V":
            pieces = [complex(at.real, base.imag + take(1)[0])]
        elif c in "CS":
            mirror = 2 * at - last[1] if last[0] in ("C", "S") else at
            v = take(6 if c == "C" else 4)
            q = [base + complex(v[i], v[i + 1]) for i in range(0, len(v), 2)]
            p1, p2, p3 = q if c == "C" else [mirror, *q]
            pieces = [_bezier(at, p1, p2, p3, t / 16) for t in range(1, 17)]
            last = (c, p2)
        elif c in "QT":
            mirror = 2 * at - last[1] if last[0] in ("Q", "T") else at
            v = take(4 if c == "Q" else 2)
            q = [base + complex(v[i], v[i + 1]) for i in range(0, len(v), 2)]
            p1, p2 = q if c == "Q" else [mirror, *q]
            pieces = [
                (1 - t / 16) ** 2 * at + 2 * (1 - t / 16) * t / 16 * p1 + (t / 16) ** 2 * p2 for t in range(1, 17)
            ]
            last = (c, p1)
        elif c == "A":
            rx, ry, turn, large, sweep, x, y = take(7)
            pieces = _arc(at, base + complex(x, y), rx, ry, turn, large != 0, sweep != 0)
        if c not in "CSQT":
            last = (c, at)
        lines[-1] += pieces
        at = pieces[-1]
    return [np.array([[p.real, p.imag] for p in line]) for line in lines]


def _bezier(a: complex, b: complex, c: complex, d: complex, t: float) -> complex:
    s = 1 - t
    return s**3 * a + 3 * s * s * t * b + 3 * s * t * t * c + t**3 * d


def _arc(a: complex, b: complex, rx: float, ry: float, turn: float, large: bool, sweep: bool) -> list[complex]:
    """An elliptical arc from its ends (SVG 1.1, appendix F.6.5)."""
    rx, ry = abs(rx), abs(ry)
    if a == b or not rx or not ry:
        return [b]
    phi = math.radians(turn)
    spin = complex(math.cos(phi), math.sin(phi))
    half = (a - b) / 2 * spin.conjugate()
    x, y = half.real, half.imag
    over = (x / rx) ** 2 + (y / ry) ** 2
    if over > 1:
        rx, ry = rx * math.sqrt(over), ry * math.sqrt(over)
    factor = max(0.0, (rx * ry) ** 2 - (rx * y) ** 2 - (ry * x) ** 2) / ((rx * y) ** 2 + (ry * x) ** 2)
    root = math.sqrt(factor) * (-1 if large == sweep else 1)
    c = complex(root * rx * y / ry, -root * ry * x / rx)
    centre = c * spin + (a + b) / 2
    first = math.atan2((y - c.imag) / ry, (x - c.real) / rx)
    span = math.atan2((-y - c.imag) / ry, (-x - c.real) / rx) - first
    if sweep and span < 0:
        span += 2 * math.pi
    elif not sweep and span > 0:
        span -= 2 * math.pi
    angles = [first + span * t / 16 for t in range(1, 17)]
    return [centre + complex(rx * math.cos(t), ry * math.sin(t)) * spin for t in angles[:-1]] + [b]
