"""SVG paths as drawn lines (W3C SVG 1.1, chapters 5 and 7 to 9): path, rect, polyline, polygon, line, circle, ellipse, use.

One user unit becomes a millimetre, y turns upwards, everything lies in the front plane.  Fills, text, styles and
embedded pictures are passed over; transforms of groups and shapes count.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from ..errors import BadFile, TooLarge
from .mesh import RawMesh
from .reading import on_time, plainly

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

UNIT = 0.001  # metres
NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
TRANSFORM = re.compile(r"\b([A-Za-z]+)\s*\(([^()]*)\)")
FLAG = re.compile(r"[01]")
APART = re.compile(r"[\s,]*")
MOST_POINTS = 200_000
MOST_NODES = 50_000  # shapes and groups, each use counted
DEEPEST = 60
MOST_TRANSFORM = 20_000  # characters
UNSEEN = ("defs", "clipPath", "mask", "symbol", "pattern", "marker")


def read(name: str, data: bytes) -> RawMesh:
    """The lines of a drawing, one piece per shape.  Raises BadFile where it is no SVG or draws nothing."""
    try:
        root = fromstring(data, forbid_entities=True, forbid_external=True)
    except DefusedXmlException:
        raise BadFile(
            "The drawing defines entities of its own, which are not read.", name, "Save it as plain SVG."
        ) from None
    except (ParseError, ValueError, LookupError) as error:
        raise BadFile(f"This is no readable SVG: {plainly(error)}.", name, "Save it again.") from None
    if not root.tag.endswith("svg"):
        raise BadFile("This is no SVG drawing.", name, "Save it as SVG.")
    drawing = _Drawing(name, {n.get("id", ""): n for n in root.iter() if isinstance(n.tag, str) and n.get("id")})
    try:
        drawing.walk(root, np.eye(3), 0)
    except (ValueError, IndexError, ArithmeticError) as error:
        raise BadFile(f"A shape can't be read: {plainly(error)}.", name, "Save the drawing as plain paths.") from None
    found = [(label, line) for label, line in drawing.found if np.isfinite(line).all()]
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
    everything = np.concatenate(points)
    everything[:, 1] -= everything[:, 1].min()
    everything[:, 0] -= 0.5 * (everything[:, 0].min() + everything[:, 0].max())
    return RawMesh(
        everything, np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64), pieces, lines=lines,
        line_piece=list(range(len(lines))),
    )  # fmt: skip


@dataclass
class _Drawing:
    """What was found so far.  `named`: every element by its id, for `use`."""

    name: str
    named: dict[str, Element]
    found: list[tuple[str, np.ndarray]] = field(default_factory=list)
    points: int = 0
    nodes: int = 0

    def walk(self, node: Element, above: np.ndarray, depth: int, used: bool = False) -> None:
        if depth > DEEPEST:
            raise ValueError("groups are nested too deeply")
        self.nodes += 1
        if self.nodes > MOST_NODES:
            raise TooLarge("The drawing has more shapes than are read.", self.name, "Simplify it.")
        on_time()
        kind = node.tag.rsplit("}", 1)[-1]
        if kind in UNSEEN and not used:
            return
        here = above @ _transform(node.get("transform", ""))
        for line in _shape(kind, node):
            self.points += len(line)
            if self.points > MOST_POINTS:
                raise TooLarge("The drawing has more points than are read.", self.name, "Simplify its paths.")
            if len(line) > 1:
                placed = np.c_[line, np.ones(len(line))] @ here.T
                self.found.append((node.get("id", ""), placed[:, :2]))
        if kind == "use":
            link = node.get("href") or node.get("{http://www.w3.org/1999/xlink}href") or ""
            other = self.named.get(link[1:]) if link.startswith("#") else None
            if other is not None:
                shift = np.eye(3)
                shift[:2, 2] = _number(node, "x"), _number(node, "y")
                self.walk(other, here @ shift, depth + 1, used=True)
        for child in node:
            if isinstance(child.tag, str):
                self.walk(child, here, depth + 1)


def _numbers(text: str) -> list[float]:
    return [float(x) for x in NUMBER.findall(text or "")]


def _number(node: Element, key: str) -> float:
    values = _numbers(node.get(key, "0")[:100])
    return values[0] if values else 0.0


def _rectangle(node: Element) -> list[np.ndarray]:
    """A rectangle, its corners rounded (SVG 1.1, section 9.2)."""
    x, y, w, h = (_number(node, k) for k in ("x", "y", "width", "height"))
    if w <= 0 or h <= 0:
        return []
    given = [_number(node, k) if node.get(k) else None for k in ("rx", "ry")]
    rx = given[0] if given[0] is not None else given[1] or 0.0
    ry = given[1] if given[1] is not None else rx
    rx, ry = min(max(rx, 0.0), w / 2), min(max(ry, 0.0), h / 2)
    if not rx or not ry:
        return [np.array([[x, y], [x + w, y], [x + w, y + h], [x, y + h], [x, y]])]
    line: list[complex] = [complex(x + rx, y)]
    for ax, ay, bx, by in (
        (x + w - rx, y, x + w, y + ry), (x + w, y + h - ry, x + w - rx, y + h), (x + rx, y + h, x, y + h - ry), (x, y + ry, x + rx, y),
    ):  # fmt: skip
        line += [complex(ax, ay), *_arc(complex(ax, ay), complex(bx, by), rx, ry, 0.0, False, True)]
    return [np.array([[p.real, p.imag] for p in line])]


def _shape(kind: str, node: Element) -> list[np.ndarray]:
    def get(key: str) -> float:
        return _number(node, key)

    if kind == "rect":
        return _rectangle(node)
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
    for word, inside in TRANSFORM.findall(text[:MOST_TRANSFORM]):
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
    lines: list[list[complex]] = []
    at = start = 0j
    last: tuple[str, complex] = ("", 0j)
    command = ""
    words = _Words(d)
    take = words.numbers
    points = 0
    while words.more():
        command = words.letter() or command
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
            rx, ry, turn = take(3)
            large, sweep = words.flag(), words.flag()
            x, y = take(2)
            pieces = _arc(at, base + complex(x, y), rx, ry, turn, large, sweep)
        if c not in "CSQT":
            last = (c, at)
        lines[-1] += pieces
        at = pieces[-1]
        points += len(pieces)
        if points > MOST_POINTS:
            break  # the drawing is refused for it
    return [np.array([[p.real, p.imag] for p in line]) for line in lines]


class _Words:
    """Path data, read from left to right.  Numbers may stand together wherever that leaves no doubt (section 8.3.9)."""

    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0

    def more(self) -> bool:
        self.at = _end(APART, self.text, self.at)
        return self.at < len(self.text)

    def letter(self) -> str:
        """The command that stands here; nothing where a number does."""
        found = self.text[self.at]
        if found in "MmLlHhVvCcSsQqTtAaZz":
            self.at += 1
            return found
        if NUMBER.match(self.text, self.at) is None:
            raise ValueError(f"path data has “{found}” in it")
        return ""

    def numbers(self, count: int) -> list[float]:
        return [self._next(NUMBER) for _ in range(count)]

    def flag(self) -> bool:
        """One digit, 0 or 1, also where the next number follows at once."""
        return self._next(FLAG) != 0

    def _next(self, pattern: re.Pattern[str]) -> float:
        found = pattern.match(self.text, _end(APART, self.text, self.at))
        if found is None:
            raise ValueError("path data ends too early")
        self.at = found.end()
        return float(found.group())


def _end(pattern: re.Pattern[str], text: str, at: int) -> int:
    found = pattern.match(text, at)
    return found.end() if found else at


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
    apart = (rx * y) ** 2 + (ry * x) ** 2
    if not apart:  # nearer than numbers can tell
        return [b]
    factor = max(0.0, (rx * ry) ** 2 - (rx * y) ** 2 - (ry * x) ** 2) / apart
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
