"""Rules as operations: they amend what kits have written, in the order that the rig's list states."""

from __future__ import annotations

from ...character import Follow, Link, Rule, Space, Spring, Swing
from ..builder import Builder
from ..program import Operation
from .follow import follow_operations, space_operations
from .links import link_operations
from .springs import spring_operations, swing_operations


def rule_operations(builder: Builder, rule: Rule) -> list[Operation]:
    """The operations of one rule."""
    if isinstance(rule, Follow):
        return follow_operations(builder, rule)
    if isinstance(rule, Space):
        return space_operations(builder, rule)
    if isinstance(rule, Link):
        return link_operations(builder, rule)
    if isinstance(rule, Spring):
        return spring_operations(builder, rule)
    assert isinstance(rule, Swing)
    return swing_operations(builder, rule)


__all__ = ["rule_operations"]
