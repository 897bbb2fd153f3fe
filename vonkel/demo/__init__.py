"""The demo cast: frozen meshes of a troupe of river-lantern keepers, grown by tools/cast."""

from __future__ import annotations

from pathlib import Path

from ..workshop import Workshop

DATA = Path(__file__).parent / "data"


def add_demo(workshop: Workshop) -> int:
    """Put Lutra the otter lamplighter on the shelf, with her open mouth as a morph target.  Returns her number."""
    number = workshop.bring_in("otter.obj", (DATA / "otter.obj").read_bytes(), "Lutra")
    workshop.apply(number, "model.rename", {"name": "Lutra", "about": "lamplighter"})
    workshop.add_shape(number, "otter-mouth-open.obj", (DATA / "otter-mouth-open.obj").read_bytes(), "mouth open", None)
    return number
