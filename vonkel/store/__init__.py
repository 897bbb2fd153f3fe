"""Keeps documents, arrays and the order of steps.  Knows nothing of rigging."""

from .store import Kept, LedgerRow, Made, Milestone, OwnPlanRow, Position, Store, Summary

__all__ = ["Kept", "LedgerRow", "Made", "Milestone", "OwnPlanRow", "Position", "Store", "Summary"]
