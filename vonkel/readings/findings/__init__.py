"""Findings: what is wrong or doubtful, where it is, and the step that mends it."""

from __future__ import annotations

from ...core.character import Character
from ...core.recent import Recent
from .joints import joint_findings
from .kinds import Finding, Mend
from .model import model_findings, readiness_findings
from .rigging import face_findings, handover_findings, limb_findings, skin_findings

CHECKS = (
    model_findings, readiness_findings, joint_findings, limb_findings, skin_findings, face_findings, handover_findings,
)  # fmt: skip

_found: Recent[str, list[Finding]] = Recent(48)


def findings(character: Character) -> list[Finding]:
    """All findings, by station.  Kept for the last few characters looked at."""
    key = character.with_(name="-", about="").key  # nothing that is found speaks of either
    return _found.get(key, lambda: [f for check in CHECKS for f in check(character)])


__all__ = ["CHECKS", "Finding", "Mend", "findings"]
