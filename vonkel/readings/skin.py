"""What is to be seen of a skin: what joints move that they should not, points that stay behind, how near what goes out is."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np

from ..core.character import Character
from ..core.skin.fineness import how_bound
from ..core.skin.strays import strays_of
from ..core.trials.behind import left_behind
from ..core.trials.worth import worth_taking_off

MOST = 60  # groups of points left behind
EASED, SHOWN = 0.05, 0.01  # a hold that easing changes by more than this was eased; what is less isn't even shown


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


def binding(character: Character, points: bool = False) -> dict[str, Any]:
    """How the body is bound through the volume: by how many points, through which cells, what finer ones cost and gain, what easing
    changes; with `points` which those are, and by how much each.  Raises StepRefused where there is nothing to bind."""
    how = how_bound(character)
    eased = np.flatnonzero(how.eased > SHOWN)
    said: dict[str, Any] = {
        "points": how.points, "bound_by": how.by,
        "fineness": [
            {
                "cells": f.cells, "edge": round(f.edge, 6), "chosen": f.chosen, "over_none": round(f.bare, 4),
                "otherwise": round(f.otherwise, 4), "seconds": round(f.seconds, 2),
            }
            for f in how.fineness
        ],
        "eased": int((how.eased > EASED).sum()), "torn": round(how.torn[0], 6), "torn_eased": round(how.torn[1], 6), "poses": list(how.poses),
    }  # fmt: skip
    if points:
        said |= {"where": eased.tolist(), "changed": np.round(how.eased[eased], 3).tolist()}
    return said
