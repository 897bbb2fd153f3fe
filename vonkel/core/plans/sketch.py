"""Joints as a plan finds them, before they are turned and mirrored."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..character import Character, Joint, opposite_name
from ..joints.inside import inside_body
from ..joints.orient import MIRROR, turn_down_bones


@dataclass
class Sketch:
    """The middle and left joints: name → (parent, place, role, deforms); hinges; and which of them are landmarks.

    A landmark is a joint that the shape says much about and that the rigger may put right before the rest follows:
    name → its words on the plate.
    """

    found: dict[str, tuple[str | None, np.ndarray, str, bool]] = field(default_factory=dict)
    hinges: dict[str, np.ndarray] = field(default_factory=dict)
    marks: dict[str, str] = field(default_factory=dict)

    def put(
        self, name: str, parent: str | None, place: np.ndarray, role: str = "", deforms: bool = True,
        hinge: tuple[float, float, float] | np.ndarray | None = None, mark: str = "",
    ) -> str:  # fmt: skip
        self.found[name] = (parent, np.asarray(place, float), role or name, deforms)
        if hinge is not None:
            self.hinges[name] = np.asarray(hinge, float)
        if mark:
            self.marks[name] = mark
        return name

    def put_chain(
        self, stem: str, parent: str, places: np.ndarray, tag: str = "", hinge: np.ndarray | tuple[Any, ...] | None = None,
        end: bool = True, mark: str = "", role: str = "",
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
                name, parent, place, f"{role}_end" if ends else f"{role}_{i + 1}", not ends, hinge, word if said else ""
            )
        return parent

    def put_spine(self, parent: str, places: np.ndarray, hinge: tuple[float, float, float], mark: str = "") -> str:
        """The links above the hips; the last of them is the chest, and the landmark where `mark` gives it words."""
        last = len(places) - 1
        for i, place in enumerate(places):
            name = "chest" if i == last else f"spine_{i + 1}"
            parent = self.put(name, parent, place, name, hinge=hinge, mark=mark if i == last else "")
        return parent

    def put_neck(
        self, parent: str | None, places: np.ndarray, hinge: tuple[float, float, float], mark: str = ""
    ) -> str | None:  # fmt: skip
        """The links of the neck, numbered where there are several; the first may be a landmark."""
        for i, place in enumerate(places):
            name = "neck" if len(places) == 1 else f"neck_{i + 1}"
            parent = self.put(name, parent, place, "neck", hinge=hinge, mark="" if i else mark)
        return parent

    def last(self, role: str) -> str:
        """The last joint put that has this role."""
        return next(n for n in reversed(self.found) if self.found[n][2] == role)

    def joints(self) -> tuple[Joint, ...]:
        """All joints, the right ones mirrored from the left; middle ones on x = 0."""
        made = []
        for name, (parent, place, role, deforms) in self.found.items():
            side = "L" if name.endswith("_L") else "C"
            place = place * [0.0, 1.0, 1.0] if side == "C" else place
            made.append(_joint(name, parent, side, place, role, deforms))
            if side == "L":
                other = opposite_name(parent) if parent else None
                made.append(_joint(opposite_name(name), other, "R", place * MIRROR, role, deforms))
        return tuple(made)

    def laid(self, character: Character, plan: str) -> Character:
        """The character with these joints in place of any joints, kits and skin there were.

        Whatever grid or map a plan worked with: deforming joints end inside the body.
        """
        parents = {parent for parent, *_ in self.found.values()}
        for name, (parent, place, role, deforms) in self.found.items():
            if deforms and name in parents and role not in ("eye", "jaw") and len(character.points):
                self.found[name] = (parent, inside_body(character, place, 200), role, deforms)
        return turn_down_bones(only_joints(character, self.joints(), plan), hinges=self.hinges)


def only_joints(character: Character, joints: tuple[Joint, ...], plan: str) -> Character:
    """The character with these joints in place of any joints, kits, rules, skin and poses there were."""
    return character.with_(
        joints=joints, kits=(), controls=(), rules=(), order=(), skin=None, poses=(), plan=plan,
        arrays={"skin/joints": None, "skin/weights": None},
    )  # fmt: skip


def _joint(name: str, parent: str | None, side: str, place: np.ndarray, role: str, deforms: bool) -> Joint:
    x, y, z = (float(v) for v in place)
    return Joint(name=name, parent=parent, side=side, place=(x, y, z), role=role, deforms=deforms)
