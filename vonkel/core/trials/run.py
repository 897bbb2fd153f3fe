"""Running the trials: every pose deformed as it will be handed over, measured, graded and pictured; worst first."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import topology_of
from ..progress import tell
from ..rig import compile_rig
from ..skin import Deformer
from ..skin.deform import HANDED
from .faces import LidLook, face_pose, face_trials
from .measure import Figures, Measurer
from .measures import MEASURES, Found, found_at, grade, judge
from .picture import heat_colours, picture, png
from .poses import pose_from_turns, trial_poses
from .shapes import shape_trials, shaped_pose

HANDED_OVER = HANDED  # how it deforms as it goes out: that is what is judged


@dataclass(frozen=True)
class Card:
    """One pose of the trials."""

    name: str
    about: str
    grade: str  # A (calm) to D
    badness: float  # what cards are ordered by, worst first
    figures: Figures
    found: dict[str, Found]  # by the measures' keys
    worst: str  # the worst of it, in words
    worst_joint: str
    worst_point: int
    gap: tuple[
        float, float, float
    ]  # metres from the live skin to the one that goes out: rms, of 99 in 100 points, largest
    picture: bytes  # PNG
    seconds: float

    def as_dict(self) -> dict[str, Any]:
        """Raw figures for reports: lengths in metres, ratios posed over rest."""
        f = self.figures
        return {
            "name": self.name, "about": self.about, "grade": self.grade, "badness": round(self.badness, 4),
            "worst": self.worst, "worst_joint": self.worst_joint, "worst_point": self.worst_point,
            "edge_stretch_most": round(f.stretch_most, 4), "edge_stretch_point": f.stretch_point,
            "edge_squeeze_most": round(f.squeeze_most, 4), "area_most": round(f.area_most, 4),
            "area_least": round(f.area_least, 4), "folded_faces": f.folded, "left_behind": len(f.left_behind),
            "left_behind_points": f.left_behind[:200].tolist(),
            "volume_change": {k: round(v, 4) for k, v in f.volumes.items()},
            "measures": [
                {
                    "key": k, "title": MEASURES[k].title, "unit": MEASURES[k].unit, "value": round(v.value, 4),
                    "limit": round(MEASURES[k].limit, 4), "source": MEASURES[k].source, "share": round(v.share, 4), "words": v.words, "point": v.point,
                }
                for k, v in self.found.items()
            ],
            "strain": round(float(np.sqrt((f.heat.astype(float) ** 2).mean())) if len(f.heat) else 0.0, 5),
            "live_gap_rms_m": round(self.gap[0], 6), "live_gap_99_m": round(self.gap[1], 6),
            "live_to_linear_m": round(self.gap[2], 6), "seconds": round(self.seconds, 4),
        }  # fmt: skip


def run_trials(character: Character, pictures: bool = True, only: str = "") -> list[Card]:
    """All trial poses, saved poses and shapes, worst first; or the one that is called `only`.

    Raises StepRefused without a skin or a shape to try.
    """
    if character.skin is None and not character.shapes:
        raise StepRefused("There is no skin to try yet.", character.name, "Bind the skin first.")
    deformer, measurer = Deformer(character), Measurer(character)
    triangles = topology_of(character).triangles
    poses = []
    if character.skin is not None:
        poses += [(p.name, p.about, pose_from_turns(character, p.turns)) for p in trial_poses(character)]
        program = compile_rig(character)
        poses += [(s.name, "a saved pose", program.evaluate(s.values)) for s in character.poses]
    of_face = {t.name: t for t in face_trials(character) if not only or t.name == only}
    poses += [(t.name, t.about, face_pose(character, t)) for t in of_face.values()]
    lids = LidLook(character) if of_face else None
    of_shapes = [t for t in shape_trials(character) if not only or t[0] == only]
    named = {name for name, _, _ in of_shapes}
    poses += [(name, about, shaped_pose(character, strengths)) for name, about, strengths in of_shapes]
    poses = [p for p in poses if not only or p[0] == only]
    cards = []
    for i, (name, about, pose) in enumerate(poses):
        tell(i / max(len(poses), 1), f"trying “{name}”")
        start = time.perf_counter()
        live = deformer.deform(pose).astype(float)
        points = deformer.deform(pose, HANDED_OVER).astype(float)
        close = name in named or name in of_face
        figures = measurer.measure(points, contact=close)
        if lids is not None and name in of_face:
            figures = replace(figures, lidded=lids.look(points, of_face[name].shut))
        away = np.linalg.norm(points - live, axis=1) if len(points) else np.zeros(1)
        gap = float(np.sqrt((away**2).mean())), float(np.percentile(away, 99)), float(away.max())
        found = found_at(figures)
        badness, worst, at = judge(found)
        spent = time.perf_counter() - start
        image = b""
        if pictures:
            box = looked_at(character.points, points) if close else None
            image = png(picture(points, triangles, heat_colours(figures.heat), (180, 180), box=box))
        joint = _holder(character, at)
        cards.append(Card(name, about, grade(badness), badness, figures, found, worst, joint, at, gap, image, spent))
    return sorted(cards, key=lambda c: -c.badness)


def looked_at(rest: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, float]:
    """The middle (3,) and half the height of a picture of what a shape moves, with some of what lies round it, metres."""
    moved = np.linalg.norm(points - rest, axis=1) > 1e-4 * float(np.ptp(rest, axis=0).max())
    of = rest[moved] if moved.any() else rest
    low, high = of.min(0), of.max(0)
    return 0.5 * (low + high), max(float((high - low).max()), 0.06 * float(np.ptp(rest, axis=0).max()))


def _holder(character: Character, point: int) -> str:
    if character.skin is None:
        return ""
    return character.skin.joints[int(character.arrays["skin/joints"][point, 0])]
