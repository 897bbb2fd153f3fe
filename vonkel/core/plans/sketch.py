"""Joints as a plan finds them, before they are turned and mirrored."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from ..character import Character, Joint, opposite_name
from ..character.hierarchy import parents_first
from ..joints.inside import inside_body
from ..joints.orient import turn_down_bones
from .frame import BodyFrame

if TYPE_CHECKING:
    from .anatomy.likeness import Reading

Hinge = np.ndarray | tuple[float, float, float] | tuple[Any, ...] | None


@dataclass
class Sketch:
    """Joints: name → (parent, place, role, deforms); hinges; and which of them are landmarks.

    A landmark is a joint that the shape says much about and that the rigger may put right before the rest follows:
    name → its words on the plate.  What stands on the left alone is mirrored where the body's frame is even.  spread: how far
    each joint may lie from where it should, as a share of the body's size; words: what is to be said of the whole.
    """

    found: dict[str, tuple[str | None, np.ndarray, str, bool]] = field(default_factory=dict)
    hinges: dict[str, np.ndarray] = field(default_factory=dict)
    marks: dict[str, str] = field(default_factory=dict)
    spread: dict[str, float] = field(default_factory=dict)
    words: list[str] = field(default_factory=list)
    frame: BodyFrame = field(default_factory=BodyFrame)
    cost: float = 0.0
    margin: float = 9.0
    reading: Reading | None = None  # how the body was read, until its joints are doubted
    agreed: bool = False  # whether the plan for even bodies puts the joints in the same places

    def put(
        self, name: str, parent: str | None, place: np.ndarray, role: str = "", deforms: bool = True,
        hinge: Hinge = None, mark: str = "", spread: float | None = None,
    ) -> str:  # fmt: skip
        self.found[name] = (parent, np.asarray(place, float), role or name, deforms)
        if hinge is not None:
            self.hinges[name] = np.asarray(hinge, float)
        if mark:
            self.marks[name] = mark
        if spread is not None:
            self.spread[name] = float(spread)
        return name

    def put_chain(
        self, stem: str, parent: str, places: np.ndarray, tag: str = "", hinge: Hinge = None, end: bool = True,
        mark: str = "", role: str = "", spread: float | None = None,
    ) -> str:  # fmt: skip
        """A row of joints stem_1, stem_2 …; with `end` the last place is an end joint that holds no skin."""
        last = len(places) - 1
        role = role or stem
        for i, place in enumerate(places):
            ends = end and i == last
            name = f"{stem}_end{tag}" if ends else f"{stem}_{i + 1}{tag}"
            said = mark if i in (0, last) else ""
            word = f"{mark}: root" if i == 0 else f"{mark}: tip"
            parent = self.put(
                name, parent, place, f"{role}_end" if ends else f"{role}_{i + 1}", not ends, hinge, word if said else "",
                spread,
            )  # fmt: skip
        return parent

    def put_spine(
        self, parent: str, places: np.ndarray, hinge: Hinge, mark: str = "", spread: float | None = None
    ) -> str:  # fmt: skip
        """The links above the hips; the last of them is the chest, and the landmark where `mark` gives it words."""
        last = len(places) - 1
        for i, place in enumerate(places):
            name = "chest" if i == last else f"spine_{i + 1}"
            parent = self.put(name, parent, place, name, hinge=hinge, mark=mark if i == last else "", spread=spread)
        return parent

    def put_neck(
        self, parent: str | None, places: np.ndarray, hinge: Hinge, mark: str = "", spread: float | None = None
    ) -> str | None:  # fmt: skip
        """The links of the neck, numbered where there are several; the first may be a landmark."""
        for i, place in enumerate(places):
            name = "neck" if len(places) == 1 else f"neck_{i + 1}"
            parent = self.put(name, parent, place, "neck", hinge=hinge, mark="" if i else mark, spread=spread)
        return parent

    def place(self, name: str) -> np.ndarray:
        return self.found[name][1]

    def last(self, role: str) -> str:
        """The last joint put that has this role."""
        return next(n for n in reversed(self.found) if self.found[n][2] == role)

    def both_sides(self) -> Sketch:
        """The same with the right joints put too, mirrored in the body's frame where they weren't."""
        out = Sketch(words=self.words, frame=self.frame, cost=self.cost, margin=self.margin, reading=self.reading)
        for name, (parent, place, role, deforms) in self.found.items():
            out._copy(self, name, place)
            other = opposite_name(name)
            if name.endswith("_L") and other not in self.found and self.frame.even:
                over = opposite_name(parent) if parent else None
                out.put(other, over, self.frame.mirrored(place), role, deforms, spread=self.spread.get(name))
                if name in self.marks:
                    out.marks[other] = sided(self.marks[name], "right")
            if name.endswith("_L") and name in out.marks:
                out.marks[name] = sided(out.marks[name], "left")
        return out

    def _copy(self, source: Sketch, name: str, place: np.ndarray) -> None:
        parent, _, role, deforms = source.found[name]
        hinge, mark = source.hinges.get(name), source.marks.get(name, "")
        self.put(name, parent, place, role, deforms, hinge, mark, source.spread.get(name))

    def carried_to(self, frame: BodyFrame) -> Sketch:
        """This sketch of a body in its own straight frame, back in the space that `frame` was taken from."""
        out = Sketch(words=self.words, frame=frame, cost=self.cost, margin=self.margin, reading=self.reading)
        for name, (_, place, _, _) in self.found.items():
            out._copy(self, name, frame.back(place))
            if name in self.hinges:
                out.hinges[name] = frame.turn.T @ self.hinges[name]
        return out

    def joints(self) -> tuple[Joint, ...]:
        """All joints; those on the left alone are mirrored, and so are their partners' places exactly."""
        made = []
        for name, (parent, place, role, deforms) in self.found.items():
            side = name[-1] if name.endswith(("_L", "_R")) else "C"
            middle = side == "C" and self.frame.even
            made.append(_joint(name, parent, side, self.frame.on_plane(place) if middle else place, role, deforms))
            other = opposite_name(name)
            if side == "L" and other not in self.found and self.frame.even:
                over = opposite_name(parent) if parent else None
                made.append(_joint(other, over, "R", self.frame.mirrored(place), role, deforms))
        return tuple(parents_first(made))

    def laid(self, character: Character, plan: str) -> Character:
        """The character with these joints in place of any joints, kits and skin there were.

        Whatever grid or map a plan worked with: deforming joints end inside the body.
        """
        parents = {parent for parent, *_ in self.found.values()}
        for name, (parent, place, role, deforms) in self.found.items():
            if deforms and name in parents and role not in ("eye", "jaw") and len(character.points):
                self.found[name] = (parent, inside_body(character, place, 200), role, deforms)
        return turn_down_bones(only_joints(character, self.joints(), plan), hinges=self.hinges)


def sided(words: str, side: str) -> str:
    """A landmark's words with its side."""
    return f"{side} {words.removeprefix('left ').removeprefix('right ')}"


def only_joints(character: Character, joints: tuple[Joint, ...], plan: str) -> Character:
    """The character with these joints in place of any joints, kits, rules, skin and poses there were."""
    return character.with_(
        joints=joints, kits=(), controls=(), rules=(), order=(), skin=None, poses=(), plan=plan,
        arrays={"skin/joints": None, "skin/weights": None, "skin/mix": None},
    )  # fmt: skip


def _joint(name: str, parent: str | None, side: str, place: np.ndarray, role: str, deforms: bool) -> Joint:
    x, y, z = (float(v) for v in place)
    return Joint(name=name, parent=parent, side=side, place=(x, y, z), role=role, deforms=deforms)
