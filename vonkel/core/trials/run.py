"""Running the trials: every pose deformed, measured, graded and pictured; worst first."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import topology_of
from ..progress import tell
from ..rig import compile_rig
from ..skin import Deformer
from .measure import Figures, Measurer
from .picture import heat_colours, picture, png
from .poses import pose_from_turns, trial_poses


@dataclass(frozen=True)
class Card:
    """One pose of the trials."""

    name: str
    about: str
    grade: str  # A (calm) to D
    badness: float  # what cards are ordered by, worst first
    figures: Figures
    worst: str  # the worst of it, in words
    worst_joint: str
    linear_gap: float  # metres: largest distance between the live skin and the linear skin that is exported
    picture: bytes  # PNG
    seconds: float

    def as_dict(self) -> dict[str, Any]:
        """Raw figures for reports: lengths in metres, ratios posed over rest."""
        f = self.figures
        return {
            "name": self.name, "about": self.about, "grade": self.grade, "badness": round(self.badness, 4),
            "worst": self.worst, "worst_joint": self.worst_joint,
            "edge_stretch_most": round(f.stretch_most, 4), "edge_stretch_point": f.stretch_point,
            "edge_squeeze_most": round(f.squeeze_most, 4), "area_most": round(f.area_most, 4),
            "area_least": round(f.area_least, 4), "folded_faces": f.folded, "left_behind": len(f.left_behind),
            "left_behind_points": f.left_behind[:200].tolist(),
            "volume_change": {k: round(v, 4) for k, v in f.volumes.items()},
            "live_to_linear_m": round(self.linear_gap, 6), "seconds": round(self.seconds, 4),
        }  # fmt: skip


def run_trials(character: Character, pictures: bool = True) -> list[Card]:
    """All trial poses and saved poses, worst first.  Raises StepRefused without a skin to try."""
    if character.skin is None:
        raise StepRefused("There is no skin to try yet.", character.name, "Bind the skin first.")
    deformer, measurer = Deformer(character), Measurer(character)
    triangles = topology_of(character).triangles
    poses = [(p.name, p.about, pose_from_turns(character, p.turns)) for p in trial_poses(character)]
    program = compile_rig(character)
    poses += [(s.name, "a saved pose", program.evaluate(s.values)) for s in character.poses]
    cards = []
    for i, (name, about, pose) in enumerate(poses):
        tell(i / max(len(poses), 1), f"trying “{name}”")
        start = time.perf_counter()
        linear = deformer.deform(pose, "linear").astype(float)
        points = deformer.deform(pose).astype(float)
        figures = measurer.measure(points, pose)
        gap = float(np.linalg.norm(points - linear, axis=1).max()) if len(points) else 0.0
        badness, worst, at = judge(figures)
        spent = time.perf_counter() - start
        image = b""
        if pictures:
            image = png(picture(points, triangles, heat_colours(figures.heat), (180, 180)))
        joint = _holder(character, at)
        cards.append(Card(name, about, grade(badness), badness, figures, worst, joint, gap, image, spent))
    return sorted(cards, key=lambda c: -c.badness)


def _holder(character: Character, point: int) -> str:
    assert character.skin
    return character.skin.joints[int(character.arrays["skin/joints"][point, 0])]


# What would just pass, each by itself (common practice).
STRETCHED = 2.5  # an edge so many times as long
SQUEEZED = 1 / 13  # an edge this share of its length
LOST, GAINED = 0.2, 0.4  # shares of a limb's volume
FOLDED = 200  # edges
BEHIND = 10  # points
GRADES = (("A", 0.35), ("B", 0.7), ("C", 1.2))  # up to this share of what would pass; D beyond


def judge(f: Figures) -> tuple[float, str, int]:
    """How bad a pose is, the worst of it in words, and the point where.

    Each figure is set against what a reviewer would still let pass (common practice): see the names above.
    """
    limb, loss = min(f.volumes.items(), key=lambda x: x[1], default=("", 0.0))
    gain_limb, gain = max(f.volumes.items(), key=lambda x: x[1], default=("", 0.0))
    behind = int(f.left_behind[0]) if len(f.left_behind) else f.stretch_point
    found = [
        ((f.stretch_most - 1) / (STRETCHED - 1), f"an edge {f.stretch_most:.1f} times as long", f.stretch_point),
        (
            (1 / max(f.squeeze_most, 1e-3) - 1) / (1 / SQUEEZED - 1),
            f"an edge squeezed to {100 * f.squeeze_most:.0f} %",
            f.squeeze_point,
        ),
        (-loss / LOST, f"{limb} loses {-100 * loss:.0f} % of its volume", f.squeeze_point),
        (gain / GAINED, f"{gain_limb} gains {100 * gain:.0f} % volume", f.stretch_point),
        (f.folded / FOLDED, f"{f.folded} folded edges", f.squeeze_point),
        (len(f.left_behind) / BEHIND, f"{len(f.left_behind)} points left behind", behind),
    ]
    badness, words, point = max(found, key=lambda x: x[0])
    return float(badness), words if badness > 0.02 else "calm", point


def grade(badness: float) -> str:
    """The grade for a share of what would pass: see GRADES."""
    return next((g for g, most in GRADES if badness <= most), "D")
