"""Rules as operations: they amend what kits have written, in the order that the rig's list states."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...character import Follow, Link, Rule, Space, Spring, Swing
from ..builder import Builder
from ..program import Operation
from .follow import follow_operations, space_operations
from .links import link_operations
from .springs import spring_operations, swing_operations

OPERATIONS: dict[type, Callable[[Builder, Any], list[Operation]]] = {
    Follow: follow_operations,
    Space: space_operations,
    Link: link_operations,
    Spring: spring_operations,
    Swing: swing_operations,
}


def rule_operations(builder: Builder, rule: Rule) -> list[Operation]:
    """The operations of one rule."""
    return OPERATIONS[type(rule)](builder, rule)


__all__ = ["OPERATIONS", "rule_operations"]
