"""What the trials measure.  A new measure is a function here, or in a file of its own, under `@measure`.

Each says what it found at a pose against what a reviewer would still let pass (common practice); the card, the grade, the
report and the page take all that are registered.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from .limits import USUAL
from .measure import Figures, Moving


@dataclass(frozen=True)
class Found:
    """`value` in the measure's unit; `share` of what would pass by itself (1: just so); where it is worst, in words."""

    value: float
    share: float
    words: str
    point: int


@dataclass(frozen=True)
class Measure:
    """`limit` is what would just pass, in `unit` (× for ratios of posed over rest, share, number); `source` of it."""

    key: str
    title: str
    unit: str
    limit: float
    source: str
    read: Callable[[Figures, float], Found]


MEASURES: dict[str, Measure] = {}
COMMON = "common practice"
# Limits that skins bound by hand reach seven tenths of in these poses: the dog and the rat of dm_control (Tassa et al. 2020,
# dm_control: Software and tasks for continuous control), measured by tests/judging/skins.py.
BY_HAND = "what skins bound by hand keep well below"


def measure(
    key: str, title: str, unit: str, limit: float, source: str = COMMON
) -> Callable[[Callable[[Figures, float], Found]], Callable[[Figures, float], Found]]:
    """Register (figures of a pose, the limit) → what was found."""

    def register(read: Callable[[Figures, float], Found]) -> Callable[[Figures, float], Found]:
        if key in MEASURES:
            raise ValueError(f"two measures are called {key}")
        MEASURES[key] = Measure(key, title, unit, limit, source, read)
        USUAL[key] = limit
        return read

    return register


def found_at(figures: Figures, limits: Mapping[str, float] = USUAL) -> dict[str, Found]:
    """What every measure finds at one pose, against limits by measure."""
    return {k: m.read(figures, limits[k]) for k, m in MEASURES.items()}


GRADES = (("A", 0.35), ("B", 0.7), ("C", 1.2))  # up to this share of what would pass; D beyond
CALM = 0.02  # below this share of what would pass nothing is worth a word


def judge(found: dict[str, Found]) -> tuple[float, str, int]:
    """How bad a pose is (the largest share of what would pass), the worst of it in words, and the point where."""
    worst = max(found.values(), key=lambda f: f.share)
    return float(worst.share), worst.words if worst.share > CALM else "calm", worst.point


def grade(badness: float) -> str:
    """The grade for a share of what would pass: see GRADES."""
    return next((g for g, most in GRADES if badness <= most), "D")


@measure("longest_edge", "longest edge", "×", 4.1, BY_HAND)
def _longest(f: Figures, limit: float) -> Found:
    most = f.stretch_most
    return Found(most, (f.stretch_weighed - 1) / (limit - 1), f"an edge {most:.1f} times as long", f.stretch_point)


@measure("shortest_edge", "shortest edge", "×", 1 / 13)
def _shortest(f: Figures, limit: float) -> Found:
    least = f.squeeze_most
    share = (1 / max(f.squeeze_weighed, 1e-3) - 1) / (1 / limit - 1)
    return Found(least, share, f"an edge squeezed to {100 * least:.0f} %", f.squeeze_point)


@measure("largest_area", "largest face area", "×", 2.7, BY_HAND)
def _swollen(f: Figures, limit: float) -> Found:
    return Found(f.area_99, (f.area_99 - 1) / (limit - 1), f"faces {f.area_99:.1f} times as large", f.area_99_point)


@measure("smallest_area", "smallest face area", "×", 1 / 6)
def _shrunk(f: Figures, limit: float) -> Found:
    share = (1 / max(f.area_1, 1e-3) - 1) / (1 / limit - 1)
    return Found(f.area_1, share, f"faces shrunk to {100 * f.area_1:.0f} %", f.area_1_point)


@measure("volume_lost", "volume lost", "share", 0.33, BY_HAND)
def _lost(f: Figures, limit: float) -> Found:
    limb, loss = min(f.volumes.items(), key=lambda x: x[1], default=("", 0.0))
    return Found(-loss, -loss / limit, f"{limb} loses {-100 * loss:.0f} % of its volume", f.squeeze_point)


@measure("volume_gained", "volume gained", "share", 0.4)
def _gained(f: Figures, limit: float) -> Found:
    limb, gain = max(f.volumes.items(), key=lambda x: x[1], default=("", 0.0))
    return Found(gain, gain / limit, f"{limb} gains {100 * gain:.0f} % volume", f.stretch_point)


@measure("folded_edges", "folded edges", "number", 200)
def _folded(f: Figures, limit: float) -> Found:
    return Found(f.folded, f.folded / limit, f"{f.folded} folded edges", f.squeeze_point)


@measure("left_behind", "points left behind", "number", 10)
def _behind(f: Figures, limit: float) -> Found:
    count = len(f.left_behind)
    where = int(f.left_behind[0]) if count else f.stretch_point
    return Found(count, count / limit, f"{count} points left behind", where)


@measure("distortion", "distortion of faces", "× a stiff move", 6.9, BY_HAND)
def _distortion(f: Figures, limit: float) -> Found:
    words = f"faces distorted {f.distortion:.1f} times as a stiff move"
    return Found(f.distortion, (f.distortion_weighed - 1) / (limit - 1), words, f.distortion_point)


@measure("rough", "roughness in motion", "edge lengths", 2.4, BY_HAND)
def _rough(f: Figures, limit: float) -> Found:
    return Found(
        f.rough, f.rough_weighed / limit, f"points {f.rough:.2f} edges off where their neighbours go", f.rough_point
    )


SEEN = "ours: what is seen on a card"


def _told(f: Figures) -> str:
    return ", which isn't weighed where a body bends" if f.touching_told else ""


@measure("contact", "skin in itself", "share of the size", 0.005, SEEN)
def _contact(f: Figures, limit: float) -> Found:
    share = f.contact.depth / f.size
    return Found(
        share,
        0.0 if f.touching_told else share / limit,
        f"the skin {1000 * f.contact.depth:.1f} mm deep in itself{_told(f)}",
        f.contact.point,
    )


@measure("through", "parts through the skin", "share of the size", 0.003, SEEN)
def _through(f: Figures, limit: float) -> Found:
    share = f.through.depth / f.size
    words = f"{f.through.what or 'nothing'} {1000 * f.through.depth:.1f} mm through the skin{_told(f)}"
    return Found(share, 0.0 if f.touching_told else share / limit, words, f.through.point)


@measure("uneven", "left unlike right", "share of the size", 0.006, SEEN)
def _uneven(f: Figures, limit: float) -> Found:
    share = f.uneven / f.size
    return Found(share, share / limit, f"left and right {1000 * f.uneven:.1f} mm apart in an even pose", f.uneven_point)


@measure(
    "lids", "lids that don't meet", "share of the opening", 0.01, "lids touch where their marks touch (common practice)"
)
def _lids(f: Figures, limit: float) -> Found:
    gap, at = (f.lidded.gap, f.lidded.gap_point) if f.lidded else (0.0, 0)
    return Found(gap, max(gap, 0.0) / limit, f"lids {100 * gap:.1f} % of the opening apart", at)


@measure("eyeball", "eyeball through its lid", "share of its radius", 0.03, SEEN)
def _eyeball(f: Figures, limit: float) -> Found:
    deep, at = (f.lidded.pierced, f.lidded.pierced_point) if f.lidded else (0.0, 0)
    return Found(deep, deep / limit, f"an eyeball {100 * deep:.1f} % of its radius through its lid", at)


STANDING = Moving()


@measure("popping", "popping between frames", "share of the size", 0.06, SEEN)
def _popping(f: Figures, limit: float) -> Found:
    m = f.moving or STANDING
    words = f"{m.popping or 'a joint'} pops by {100 * m.popped:.1f} % of the size"
    return Found(m.popped, m.popped / limit, words, f.stretch_point)


@measure("sliding", "feet that slide", "share of the leg", 0.02, SEEN)
def _sliding(f: Figures, limit: float) -> Found:
    m = f.moving or STANDING
    return Found(
        m.slid, m.slid / limit, f"{m.sliding or 'a foot'} slides by {100 * m.slid:.1f} % of its leg", f.stretch_point
    )


@measure("ik_off", "limbs off their targets", "share of the limb", 0.03, SEEN)
def _off_target(f: Figures, limit: float) -> Found:
    m = f.moving or STANDING
    return Found(
        m.missed,
        m.missed / limit,
        f"{m.missing or 'a limb'} {100 * m.missed:.1f} % of its length off its target",
        f.stretch_point,
    )
