"""Slots: the places in a rig's state that operations read and write, each by what it is of."""

from __future__ import annotations

from ..character import Ref


class Slot(Ref):
    """`joint:` and `control:` hold where these are, so a reference to one is its slot; the others belong to the rig alone."""

    __slots__ = ()

    @classmethod
    def scale(cls, joint: str) -> Slot:
        """A joint's own scale (x, y, z), which no child inherits."""
        return cls("scale:" + joint)

    @classmethod
    def goal(cls, kit: str) -> Slot:
        """Where the end of a limb is wanted."""
        return cls("goal:" + kit)

    @classmethod
    def stand(cls, control: str) -> Slot:
        """Where a control stands before its own move and turn."""
        return cls("stand:" + control)

    @classmethod
    def curve(cls, joint: str) -> Slot:
        """Where a chain's curve puts a joint before fine turns."""
        return cls("curve:" + joint)

    @classmethod
    def heading(cls, control: str) -> Slot:
        """Where a head's control is before the head has its last word."""
        return cls("heading:" + control)

    @classmethod
    def rolled(cls, kit: str) -> Slot:
        """How far a foot has rolled on to its ball, radians."""
        return cls("rolled:" + kit)

    @classmethod
    def value(cls, control: str) -> Slot:
        """All channels of a control, for what drives them before anybody reads them."""
        return cls("value:" + control)
