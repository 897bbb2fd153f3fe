"""Motions of other skeletons on our rigs: which joint is which, and playing them."""

from .matching import Match, matched
from .playing import Played, played

__all__ = ["Match", "Played", "matched", "played"]
