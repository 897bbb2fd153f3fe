"""What is to be seen of a skin: what joints move that they should not, points that stay behind, how near what goes out is."""

from __future__ import annotations

import base64
from typing import Any

from ..core.character import Character
from ..core.skin.strays import strays_of
from ..core.trials.behind import left_behind
from ..core.trials.worth import worth_taking_off

MOST = 60  # groups of points left behind


def strays(character: Character) -> list[dict[str, Any]]:
    """What joints hold where they have no business, the worst first."""
    return [
        {
            "joint": s.joint,
            "where": s.where,
            "count": len(s.points),
            "most": round(s.most, 3),
            "points": s.points.tolist(),
        }
        for s in strays_of(character)
    ]


def worth(character: Character) -> list[dict[str, Any]]:
    """Of the first of them, how much calmer the trials are once they are taken off: the share of the strain there."""
    return [{"joint": j, "where": w, "calmer": g} for j, w, g in worth_taking_off(character)]


def strays_told(character: Character) -> list[dict[str, Any]]:
    """Both together, without the points."""
    calmer = {(w["joint"], w["where"]): w["calmer"] for w in worth(character)}
    return [
        {k: v for k, v in s.items() if k != "points"} | {"calmer": calmer.get((s["joint"], s["where"]))}
        for s in strays(character)
    ]


def behind(character: Character, pictures: bool = False) -> list[dict[str, Any]]:
    """Groups of points that stay behind in some pose, the largest first.  Raises StepRefused without a skin."""
    found = []
    for group in left_behind(character, pictures)[:MOST]:
        said: dict[str, Any] = {"points": group.points.tolist(), "poses": group.poses, "worst": group.worst}
        if pictures:
            said["picture"] = base64.b64encode(group.picture).decode()
        found.append(said)
    return found
