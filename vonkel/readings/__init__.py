"""Readings: pure functions that look at a character and change nothing."""

from .findings import Finding, Mend, findings
from .registry import READINGS, Reading
from .report import report
from .stations import STATIONS, station_states

__all__ = ["READINGS", "STATIONS", "Finding", "Mend", "Reading", "findings", "report", "station_states"]
