"""Documents of earlier versions, brought to the present one where they are read; nothing else knows of them.

Version 1 is what 0.1 to 0.3 wrote, without saying so.  2: the index finger's joints have the role `index_…` (it was
`point_…`; names stay as they are), and every control knows what it is within its kit (`key`), which `core/loading.py`
sees to.
"""

from __future__ import annotations

from typing import Any, Literal

VERSION: Literal[2] = 2
OLD_INDEX, INDEX = "point_", "index_"


def known_version(version: Any) -> int:
    """The version that a document says it is of.  Raises ValueError for what is no version, and for one that is newer."""
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise ValueError("it has no version")
    if version > VERSION:
        raise ValueError(f"it was made by a newer Vonkel (version {version}; this one knows up to {VERSION})")
    return version


def upgraded(document: dict[str, Any]) -> dict[str, Any]:
    """An earlier version's document as the present one writes it.  What isn't as it should be is left for the models."""
    return {**document, "joints": with_index_fingers(document.get("joints", [])), "version": VERSION}


def with_index_fingers(joints: Any) -> Any:
    """Joints as JSON or models' fields, their index fingers' roles as they are called now."""
    if not isinstance(joints, list | tuple):
        return joints

    def now(joint: Any) -> Any:
        role = joint.get("role") if isinstance(joint, dict) else None
        return {**joint, "role": renamed_index(role)} if isinstance(role, str) else joint

    return [now(j) for j in joints]


def renamed_index(word: str) -> str:
    """A role, or a place of a plan, as it is called now."""
    return INDEX + word.removeprefix(OLD_INDEX) if word.startswith(OLD_INDEX) else word
