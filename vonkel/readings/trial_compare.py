"""Two states' trials card by card: what became worse, what became better, and by which measure."""

from __future__ import annotations

from typing import Any

from ..core.trials.measures import MEASURES

SAME = 0.02  # of what would pass: a measure that differs by less is as it was


def compared(before: list[dict[str, Any]], after: list[dict[str, Any]]) -> dict[str, Any]:
    """Cards (as `Card.as_dict`) of two states: rows of those that both have, the largest change first, and names that one alone has.

    change: badness after less before, shares of what would pass; measures: those that differ, the largest difference first.
    """
    old, new = ({_called(c): c for c in cards} for cards in (before, after))
    rows = [_row(old[n], new[n]) for n in old if n in new]
    rows.sort(key=lambda r: -abs(r["change"]))
    return {
        "rows": rows,
        "only_before": [n for n in old if n not in new],
        "only_after": [n for n in new if n not in old],
        "worse": sum(r["change"] > SAME for r in rows),
        "better": sum(r["change"] < -SAME for r in rows),
    }


def _called(card: dict[str, Any]) -> str:
    """What is the same trial in both states: a motion, or a joint's sweep, whichever its worst moment is."""
    over = card.get("sweep") or {}
    return str(over.get("clip") or (f"{over['joint']} about {over['axis']}" if over.get("joint") else card["name"]))


def _row(a: dict[str, Any], b: dict[str, Any]) -> dict[str, Any]:
    was, now = ({m["key"]: m for m in c["measures"]} for c in (a, b))
    differ = [
        {
            "key": k, "title": MEASURES[k].title, "unit": MEASURES[k].unit, "before": was[k]["value"], "after": now[k]["value"],
            "change": round(now[k]["share"] - was[k]["share"], 4),
        }
        for k in MEASURES
        if k in was and k in now and abs(now[k]["share"] - was[k]["share"]) > SAME
    ]  # fmt: skip
    return {
        "name": b["name"],
        "change": round(b["badness"] - a["badness"], 4),
        "before": _side(a),
        "after": _side(b),
        "measures": sorted(differ, key=lambda m: -abs(m["change"])),
    }


def _side(card: dict[str, Any]) -> dict[str, Any]:
    return {k: card.get(k, "") for k in ("grade", "badness", "worst", "worst_joint", "picture")}
