"""The demo cast: frozen meshes of a troupe of river-lantern keepers, grown by tools/cast."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..core.errors import NotFound
from ..workshop import Workshop

DATA = Path(__file__).parent / "data"


@dataclass(frozen=True)
class Member:
    """One of the cast: file, who it is, and the plan that suits the body (none for a mesh that is there to be mended)."""

    file: str
    name: str
    about: str
    plan: str


CAST = {
    m.file: m
    for m in (
        Member("otter.obj", "Lutra", "otter, lamplighter", "biped"),
        Member("newt.obj", "Brindle", "pack newt", "quadruped"),
        Member("beetle.obj", "Tock", "lantern beetle", "many-legged"),
        Member("bat.obj", "Vesper", "bat, night courier", "winged"),
        Member("seal.obj", "Sedge", "river seal", "finned"),
        Member("larva.obj", "Wick", "lantern larva", "chain"),
        Member("bust.obj", "Old Burr", "badger, gatekeeper; a bust", "head"),
        Member("cracked.obj", "Cracked imp", "a mesh to mend", ""),
        Member("crated.glb", "Crated imp", "a mesh to unpack", ""),
    )
}


def add_member(workshop: Workshop, file: str, shapes: bool = True) -> int:
    """Put one of the cast among the characters.  Returns its number.  Lutra brings her open mouth as a morph target."""
    if file not in CAST:
        raise NotFound(f"Nobody of the cast is called “{file}”.", "", f"There are: {', '.join(CAST)}.")
    m = CAST[file]
    number = workshop.bring_in(m.file, (DATA / m.file).read_bytes(), m.name)
    workshop.apply(number, "model.rename", {"name": m.name, "about": m.about})
    if shapes and file == "otter.obj":
        open_mouth(workshop, number)
    return number


def open_mouth(workshop: Workshop, number: int) -> None:
    opened = "otter-mouth-open.obj"
    workshop.add_shape(number, opened, (DATA / opened).read_bytes(), "mouth open", None)


READY = "lutra-ready.vonkel"  # rigged and bound by tools/ready.py, so that the first drag needs nothing done before it


def add_demo(workshop: Workshop) -> int:
    """Put the whole cast among the characters, and before all Lutra once more, ready to pose.  Returns the bare Lutra's number."""
    lutra, *others = CAST
    number = add_member(workshop, lutra, shapes=False)
    for file in reversed(others):
        add_member(workshop, file)
    open_mouth(workshop, number)  # late, since the list begins with what was changed last
    workshop.bring_in(READY, (DATA / READY).read_bytes())
    return number
