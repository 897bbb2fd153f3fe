"""What a page is told of a motion of another skeleton before it is played: the skeleton as a drawing, and which joint is which."""

from __future__ import annotations

from typing import Any

from ..core.character import Character
from ..core.motion.capture import Capture
from ..core.retargeting import matched
from ..core.retargeting.matching import axes_of

DECIMALS = 4


def told_capture(character: Character, capture: Capture) -> dict[str, Any]:
    """Names, parents and places at rest (left, up and ahead, of its size), what was odd in the file, and matches.  Raises StepRefused."""
    s = capture.skeleton
    found = matched(character, s)
    there = {m.joint: s.names.index(m.source) for m in found if m.source}
    places = (s.rest @ axes_of(character, s, there).T) / max(s.size, 1e-9)
    return {
        "joints": [
            {"name": n, "parent": p, "place": [round(float(v), DECIMALS) for v in at]}
            for n, p, at in zip(s.names, s.parents, places, strict=True)
        ],
        "frames": len(capture.rows),
        "rate": round(capture.rate, 3),
        "notes": list(capture.notes),
        "matches": [m.__dict__ for m in found],
    }
