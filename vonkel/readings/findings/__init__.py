"""Findings: what is wrong or doubtful, where it is, and the step that mends it."""

from __future__ import annotations

from ...core.character import Character
from ...core.derived import derived
from .face import face_findings
from .joints import joint_findings
from .kinds import Finding, Mend
from .model import model_findings, readiness_findings
from .motion import motion_findings
from .rigging import handover_findings, limb_findings, skin_findings
from .shapes import shape_findings

CHECKS = (
    model_findings, readiness_findings, joint_findings, limb_findings, skin_findings, shape_findings,
    face_findings, motion_findings, handover_findings,
)  # fmt: skip


def findings(character: Character) -> list[Finding]:
    """All findings, by station.  Kept for the last few characters looked at; nothing that is found speaks of its name."""
    return list(_findings(character.with_(name="-", about="")))


@derived("*", most=48)
def _findings(character: Character) -> tuple[Finding, ...]:
    return tuple(f for check in CHECKS for f in check(character))


__all__ = ["CHECKS", "Finding", "Mend", "findings"]
