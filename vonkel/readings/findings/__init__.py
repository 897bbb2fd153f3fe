"""Findings: what is wrong or doubtful, where it is, and the step that mends it."""

from __future__ import annotations

from collections import OrderedDict

from ...core.character import Character
from .joints import joint_findings
from .kinds import Finding, Mend
from .model import model_findings, readiness_findings
from .rigging import face_findings, handover_findings, limb_findings, skin_findings

CHECKS = (
    model_findings, readiness_findings, joint_findings, limb_findings, skin_findings, face_findings, handover_findings,
)  # fmt: skip

_cache: OrderedDict[str, list[Finding]] = OrderedDict()


def findings(character: Character) -> list[Finding]:
    """All findings, by station.  Kept for the last few characters looked at."""
    key = character.key
    if key not in _cache:
        _cache[key] = [f for check in CHECKS for f in check(character)]
        while len(_cache) > 24:
            _cache.popitem(last=False)
    return _cache[key]


__all__ = ["CHECKS", "Finding", "Mend", "findings"]
