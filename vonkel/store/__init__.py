"""Keeps documents, arrays and the order of steps.  Knows nothing of rigging."""

from .store import Kept, LedgerRow, Milestone, OwnPlanRow, Position, Store, Summary

__all__ = ["Kept", "LedgerRow", "Milestone", "OwnPlanRow", "Position", "Store", "Summary"]
