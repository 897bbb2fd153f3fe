"""The report of a rig: counts, findings, trial cards with raw figures."""

from __future__ import annotations

from typing import Any

from ..core.character import Character
from .findings import Finding, findings


def counts(c: Character) -> dict[str, int]:
    return {
        "points": len(c.points), "faces": max(len(c.arrays.get("face_starts", ())) - 1, 0), "parts": len(c.parts),
        "joints": len(c.joints), "deforming_joints": sum(j.deforms for j in c.joints), "kits": len(c.kits),
        "controls": len(c.controls), "shapes": len(c.shapes), "influences": c.skin.influences if c.skin else 0,
    }  # fmt: skip


def listed(found: list[Finding]) -> list[dict[str, Any]]:
    """Findings for a report: how many points, not which."""
    return [f.model_dump(exclude={"points"}) | {"point_count": len(f.points)} for f in found]


def report(c: Character, cards: list[dict[str, Any]], times: dict[str, float] | None = None) -> dict[str, Any]:
    """JSON-ready; `cards` as Card.as_dict gives them; lengths in metres, ratios posed over rest."""
    return {
        "vonkel_report": 1,
        "character": c.name,
        "about": c.about,
        "plan": c.plan,
        "height_m": round(c.height, 6),
        "counts": counts(c),
        "findings": listed(findings(c)),
        "trials": cards,
        "worst": cards[0]["name"] if cards else None,
        "times_s": {k: round(v, 3) for k, v in (times or {}).items()},
    }
