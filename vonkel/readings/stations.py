"""The path: its stations, and how far each is."""

from __future__ import annotations

from typing import Any

from ..core.character import Character
from ..core.rig.kits import gives
from .findings import Finding

STATIONS = (
    ("model", "Model", "Bring the character in and make it fit to rig."),
    ("joints", "Joints", "Lay the hierarchy into the body."),
    ("limbs", "Limbs", "Give the joints what animators hold in their hands."),
    ("skin", "Skin", "Let the mesh follow, and see who holds it."),
    ("shapes", "Shapes", "Morph targets: what bones can't do."),
    ("face", "Face", "Eyes that look."),
    ("motion", "Motion", "Set it going: keys, steps, motions from files."),
    ("trials", "Trials", "Prove it in poses."),
    ("handover", "Handover", "Hand a clean rig on."),
)


def station_states(c: Character, found: list[Finding], tried: bool) -> list[dict[str, Any]]:
    """Per station: `open`, `half` or `full`, and the number of findings that want something done."""
    eyes = any(p.role == "eye" for p in c.parts)
    done = {
        "model": 2 if len(c.points) else 0,
        "joints": 2 if c.joints else 0,
        "limbs": 2 if c.kits else 0,
        "skin": 2 if c.skin else 0,
        "shapes": 2 if c.shapes else 0,
        "face": (2 if any(gives(k, "sight") for k in c.kits) else 0) if eyes else 0,
        "motion": 2 if c.clips else 0,
        "trials": 2 if tried else 0,
        "handover": 0,
    }
    states = []
    for key, title, about in STATIONS:
        count = sum(1 for f in found if f.station == key and f.level != "note")
        level = 1 if done[key] == 2 and count else done[key]
        if key == "handover":
            level = 2 if c.skin and tried and not any(f.level == "must" for f in found) else 1 if c.skin else 0
        states.append(
            {"key": key, "title": title, "about": about, "state": ("open", "half", "full")[level], "count": count}
        )
    return states
