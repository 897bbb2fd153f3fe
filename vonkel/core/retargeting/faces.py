"""What a camera says of a face, on our face: action units by number, the gaze, the lids."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..character import Character, Inputs
from ..character.refs import SHAPES

JAW = {25: 0.12, 26: 0.5, 27: 1.0}  # how far units that drop the jaw open it (jaw drop, mouth stretch)
FAR = 0.6  # of how far the target of the gaze stands: to the side at most


@dataclass(frozen=True)
class FaceSaid:
    """One frame: strengths of action units by number (Ekman & Friesen 1978), the gaze (left, up; −1 to 1), how far lids are shut."""

    units: dict[int, float]
    gaze: tuple[float, float]
    blink: float

    @classmethod
    def of(cls, said: Any) -> FaceSaid:
        """From a line's JSON.  Raises TypeError, ValueError, AttributeError for what is none."""
        units = (
            {int(k): min(max(float(v), 0.0), 2.0) for k, v in dict(said["units"]).items()} if "units" in said else {}
        )
        gaze = said.get("gaze", (0.0, 0.0))
        left, up = (min(max(float(v), -1.0), 1.0) for v in gaze)
        return cls(units, (left, up), min(max(float(said.get("blink", 0.0)), 0.0), 1.0))


def face_values(character: Character, said: FaceSaid) -> Inputs:
    """The values at which this face does what was said, as far as it has shapes and controls for that."""
    shapes: dict[str, float] = {}
    for number, strength in said.units.items():
        found = [s.name for s in character.shapes if s.name.split(" ")[0] == f"AU{number}"]
        shapes |= dict.fromkeys(found, strength)
    out: Inputs = {SHAPES: shapes} if shapes else {}
    kinds = {k.name: k.kind for k in character.kits}
    for control in character.controls:
        channels = {c.name for c in control.channels if not c.locked}
        kind = kinds.get(control.kit, "")
        if kind == "jaw" and "open" in channels:
            out[control.name] = {"open": min(sum(JAW.get(n, 0.0) * v for n, v in said.units.items()), 1.0)}
        elif kind == "lids" and "blink" in channels:
            out[control.name] = {"blink": max(said.blink, said.units.get(43, 0.0), said.units.get(45, 0.0))}
        elif control.key == "aim" and control.side == "C" and {"move x", "move y"} <= channels:
            reach = FAR * abs(control.place[2])
            out[control.name] = {"move x": said.gaze[0] * reach, "move y": said.gaze[1] * reach}
    return out
