"""Motion: clips of channels over time."""

from .clips import values_at, values_between, with_clip, without_clip, without_tracks

__all__ = ["values_at", "values_between", "with_clip", "without_clip", "without_tracks"]
