"""Keeps documents, arrays and the order of steps.  Knows nothing of rigging."""

from .store import LedgerRow, Milestone, Position, Store, Summary

__all__ = ["LedgerRow", "Milestone", "Position", "Store", "Summary"]
