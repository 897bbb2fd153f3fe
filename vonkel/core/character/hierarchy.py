"""The order of joints, and what hangs below one."""

from __future__ import annotations

from collections.abc import Iterable

from .model import Character, Joint


def parents_first(joints: Iterable[Joint]) -> list[Joint]:
    """The same joints, each behind its parent, otherwise in their order.

    Raises ValueError where joints hang below themselves or from one that isn't there.
    """
    placed: set[str | None] = {None}
    waiting, out = list(joints), []
    while waiting:
        later = []
        for j in waiting:  # in the order given wherever that has parents first already
            if j.parent in placed:
                out.append(j)
                placed.add(j.name)
            else:
                later.append(j)
        if len(later) == len(waiting):
            raise ValueError("joints hang below themselves")
        waiting = later
    return out


def descendants(character: Character, name: str) -> list[str]:
    """All joints below one, without it."""
    found, todo = [], [name]
    while todo:
        for child in character.children.get(todo.pop(), ()):
            found.append(child.name)
            todo.append(child.name)
    return found
