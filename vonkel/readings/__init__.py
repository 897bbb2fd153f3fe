"""Readings: pure functions that look at a character and change nothing."""

from .findings import Finding, Mend, findings
from .report import report
from .stations import STATIONS, station_states

__all__ = ["STATIONS", "Finding", "Mend", "findings", "report", "station_states"]
