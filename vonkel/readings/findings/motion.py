"""Findings of motions: their rate."""

from __future__ import annotations

from collections.abc import Iterator

from ...core.character import Character
from .kinds import Finding, Mend


def motion_findings(c: Character) -> Iterator[Finding]:
    for clip in c.clips:
        if abs(clip.rate - c.rate) > 1e-6:
            yield Finding(
                station="motion", level="should", title=f"{clip.name} has {clip.rate:g} frames a second, not {c.rate:g}",
                detail="Played frame by frame at the rate of this work it would be too slow or too fast.",
                mend=Mend(label=f"Bring it to {c.rate:g}", step="motion.at_rate", params={"clip": clip.name, "rate": c.rate}),
            )  # fmt: skip
