"""From a lead's value to a follower's, through keys."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .links import Curve

ROUNDING = {"none": 0.0, "whole": 1.0, "half": 0.5, "third": 1.0 / 3.0, "quarter": 0.25}


def slopes(at: list[float], value: list[float]) -> list[float]:
    """The slope at each key of a smooth curve that doesn't overshoot (Fritsch & Carlson 1980, with Butland's mean)."""
    n = len(at)
    if n == 1:
        return [0.0]
    step = [(value[i + 1] - value[i]) / (at[i + 1] - at[i]) for i in range(n - 1)]
    out = [step[0], *([0.0] * (n - 2)), step[-1]]
    for i in range(1, n - 1):
        if step[i - 1] * step[i] > 0:
            a, b = at[i] - at[i - 1], at[i + 1] - at[i]
            w, v = 2 * b + a, b + 2 * a
            out[i] = (w + v) / (w / step[i - 1] + v / step[i])
    return out


def curve_function(curve: Curve) -> Callable[[float], float]:
    """The curve as a function of plain floats.

    linear: straight between keys; smooth: cubic through them, without overshoot; stepped: the last key's value.
    """
    at, value = [k.at for k in curve.keys], [k.value for k in curve.keys]
    if len(at) == 1:
        only = value[0]
        return lambda x: only
    if curve.manner == "smooth":
        slope = slopes(at, value)
    else:
        slope = [(value[i + 1] - value[i]) / (at[i + 1] - at[i]) for i in range(len(at) - 1)]
        slope.append(slope[-1])
    goes_on = curve.past == "continue" and curve.manner != "stepped"
    stepped, smooth = curve.manner == "stepped", curve.manner == "smooth"
    last = len(at) - 1

    def evaluate(x: float) -> float:
        if x <= at[0]:
            return value[0] + (x - at[0]) * slope[0] if goes_on else value[0]
        if x >= at[last]:
            return value[last] + (x - at[last]) * slope[last] if goes_on else value[last]
        i = bisect_right(at, x) - 1
        if stepped:
            return value[i]
        if not smooth:
            return value[i] + (x - at[i]) * slope[i]
        h = at[i + 1] - at[i]
        t = (x - at[i]) / h
        s = 1.0 - t
        return (
            value[i] * (1 + 2 * t) * s * s
            + value[i + 1] * (1 + 2 * s) * t * t
            + h * t * s * (slope[i] * s - slope[i + 1] * t)
        )

    return evaluate


def rounded(value: float, rounding: str) -> float:
    """The value to the nearest whole, half, third or quarter."""
    step = ROUNDING[rounding]
    return round(value / step) * step if step else value
