"""Running the trials: every pose deformed as it will be handed over, measured, graded and pictured; worst first."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..character import Character
from ..errors import StepRefused
from ..geometry.topology import topology_of
from ..joints.limbs import limb_of
from ..progress import tell
from ..recent import Recent
from ..rig import Pose, compile_rig
from ..skin import Deformer
from ..skin.deform import HANDED
from .clips import Played, frame_called, played_clips
from .evenness import even_pose
from .faces import FaceTrial, LidLook, face_pose, face_trials
from .measure import Figures, Measurer, gathering_points
from .measures import MEASURES, Found, found_at, grade, judge
from .picture import heat_colours, picture, png
from .poses import pose_from_turns, trial_poses
from .shapes import shape_trials, shaped_pose
from .sweeps import Sweep, sweeps, swept

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
    holders: tuple[str, ...] = ()  # the joints that hold the worst places most
    curve: dict[str, Any] | None = None  # of a sweep: angles (radians), and what each measure and limb does over them

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
            "places": [
                {"point": p, "joint": holder} for p, holder in zip(f.places, self.holders, strict=False)
            ],
            **({"sweep": self.curve} if self.curve is not None else {}),
            "strain": round(float(np.sqrt((f.heat.astype(float) ** 2).mean())) if len(f.heat) else 0.0, 5),
            "live_gap_rms_m": round(self.gap[0], 6), "live_gap_99_m": round(self.gap[1], 6),
            "live_to_linear_m": round(self.gap[2], 6), "seconds": round(self.seconds, 4),
        }  # fmt: skip


@dataclass(frozen=True)
class Tried:
    """One pose to be tried.  contact: the skin in itself and parts through it are looked at, too."""

    name: str
    about: str
    pose: Pose
    contact: bool = False
    face: FaceTrial | None = None


class Bench:
    """What a character's poses are tried with.  Figures and pictures of posed points that were looked at lately are kept, so that after
    a change only the poses that it moves are measured and drawn again."""

    def __init__(self, character: Character) -> None:
        self.character = character
        self.deformer, self.measurer = Deformer(character), Measurer(character)
        self.triangles = topology_of(character).triangles
        self.rest = _seal(character)
        self._lids: LidLook | None = None

    def card(self, tried: Tried, pictures: bool, with_live: bool = True) -> Card:
        """The card of one pose; without `with_live` nothing is said of how the live skin differs."""
        start = time.perf_counter()
        character = self.character
        live = self.deformer.deform(tried.pose).astype(float) if with_live else None
        points = self.deformer.deform(tried.pose, HANDED_OVER).astype(float)
        even = even_pose(character, tried.pose, tried.pose.skin_matrices(self.deformer.rest_inverse))
        kept = self._kept(tried, points, even)
        figures = kept.figures
        if tried.face is not None:
            self._lids = self._lids or LidLook(character)
            figures = replace(figures, lidded=self._lids.look(points, tried.face.shut))
        away = np.linalg.norm(points - live, axis=1) if live is not None and len(points) else np.zeros(1)
        gap = float(np.sqrt((away**2).mean())), float(np.percentile(away, 99)), float(away.max())
        found = found_at(figures)
        badness, worst, at = judge(found)
        spent = time.perf_counter() - start
        if pictures and not kept.picture:
            kept.picture = self._picture(points, figures, tried.contact)
        joint = holder_of_point(character, at)
        return Card(
            tried.name, tried.about, grade(badness), badness, figures, found, worst, joint, at, gap,
            kept.picture if pictures else b"", spent,
            tuple(holder_of_point(character, p) for p in figures.places),
        )  # fmt: skip

    def _kept(self, tried: Tried, points: np.ndarray, even: bool) -> _Kept:
        """Figures of a pose: those of before where its points are where they were then."""
        key = (self.rest, tried.name, tried.contact, even)
        before = _KEPT.peek(key)
        flat = points.astype(np.float32)
        if before is not None and np.abs(before.points - flat).max(initial=0.0) <= STILL * self.character.size:
            return before
        made = _Kept(flat, self.measurer.measure(points, contact=tried.contact, even=even))
        _KEPT.put(key, made)
        return made

    def _picture(self, points: np.ndarray, figures: Figures, near: bool) -> bytes:
        box = looked_at(self.character.points, points) if near else None
        return png(picture(points, self.triangles, heat_colours(figures.heat), (180, 180), box=box))


@dataclass
class _Kept:
    points: np.ndarray  # (n, 3) float32
    figures: Figures
    picture: bytes = b""


STILL = 1e-6  # of the size: points that moved by less are where they were
_KEPT: Recent[tuple[str, str, bool, bool], _Kept] = Recent(240)


def _seal(character: Character) -> str:
    """All but the posed points that figures hang on: the mesh at rest, whose limb each point is, and what lies in folds."""
    body = character.seal("points", "face_starts", "face_corners", "parts", "joints")
    if character.skin is None:
        return body
    holders = character.skin.joints
    limbs = np.array([limb_of(character, n) for n in holders])
    whose = np.unique(limbs, return_inverse=True)[1][character.arrays["skin/joints"][:, 0]]
    told = whose.astype(np.uint16).tobytes() + gathering_points(character).tobytes()
    return body + hashlib.blake2b(told, digest_size=16).hexdigest()


def run_trials(character: Character, pictures: bool = True, only: str = "", with_sweeps: bool = False) -> list[Card]:
    """All trial poses, saved poses, kept motions and shapes, worst first; or the one that is called `only`.  with_sweeps: every joint through its
    freedom, too, a card for the worst angle of each.

    Raises StepRefused without a skin or a shape to try.
    """
    if character.skin is None and not character.shapes:
        raise StepRefused("There is no skin to try yet.", character.name, "Bind the skin first.")
    bench = Bench(character)
    todo = [t for t in _poses(character, only) if not only or t.name == only]
    over = sweeps(character) if with_sweeps else ()
    cards = []
    for i, tried in enumerate(todo):
        tell(i / max(len(todo) + len(over), 1), f"trying “{tried.name}”")
        cards.append(bench.card(tried, pictures))
    for i, sweep in enumerate(over):
        tell((len(todo) + i) / (len(todo) + len(over)), f"turning {sweep.name}")
        cards.append(swept_card(bench, sweep, pictures))
    for played in played_clips(character) if not only and character.skin is not None else ():
        tell(1.0, f"playing {played.clip.name}")
        cards.append(clip_card(bench, played, pictures))
    frame = frame_called(character, only) if only and not cards else None
    if frame is not None:
        cards.append(bench.card(Tried(only, "a frame of a motion", frame), pictures))
    if only and not cards:
        at = swept(character, only)
        if at is not None:
            cards.append(bench.card(_at_angle(character, *at), pictures))
    return sorted(cards, key=lambda c: -c.badness)


def _poses(character: Character, only: str) -> Iterator[Tried]:
    if character.skin is not None:
        for p in trial_poses(character):
            yield Tried(p.name, p.about, pose_from_turns(character, p.turns))
        program = compile_rig(character)
        for s in character.poses:
            yield Tried(s.name, "a saved pose", program.evaluate(s.values))
    for t in face_trials(character):
        if not only or t.name == only:
            yield Tried(t.name, t.about, face_pose(character, t), True, t)
    for name, about, strengths in shape_trials(character):
        if not only or name == only:
            yield Tried(name, about, shaped_pose(character, strengths), True)


def _at_angle(character: Character, sweep: Sweep, angle: float) -> Tried:
    about = f"{sweep.joint} turned by {np.degrees(angle):.0f}° through its freedom"
    return Tried(sweep.name_at(angle), about, pose_from_turns(character, sweep.turns(character, angle)))


def swept_card(bench: Bench, sweep: Sweep, pictures: bool) -> Card:
    """The card of the worst angle of a sweep, with the curves of all measures and volumes over it."""
    cards = [bench.card(_at_angle(bench.character, sweep, a), False, False) for a in sweep.angles]
    worst = max(range(len(cards)), key=lambda i: cards[i].badness)
    curve = {
        "joint": sweep.joint, "axis": sweep.axis, "angles": [round(a, 5) for a in sweep.angles], **_curves(cards),
    }  # fmt: skip
    best = bench.card(_at_angle(bench.character, sweep, sweep.angles[worst]), pictures)
    return replace(best, curve=curve, seconds=sum(c.seconds for c in cards))


def clip_card(bench: Bench, played: Played, pictures: bool) -> Card:
    """The card of a motion's worst frame, with the curves of all measures and volumes over its frames."""

    def tried(frame: int) -> Tried:
        return Tried(played.name_at(frame), f"the motion {played.clip.name}", played.motion.pose(frame))

    cards = [bench.card(tried(f), False, False) for f in played.frames]
    worst = max(range(len(cards)), key=lambda i: cards[i].badness)
    curve = {"clip": played.clip.name, "frames": list(played.frames), **_curves(cards)}
    best = bench.card(tried(played.frames[worst]), pictures)
    return replace(best, curve=curve, seconds=sum(c.seconds for c in cards))


def _curves(cards: list[Card]) -> dict[str, Any]:
    """What cards that follow one another say, each a list."""
    return {
        "names": [c.name for c in cards], "grades": [c.grade for c in cards],
        "badness": [round(c.badness, 4) for c in cards],
        "measures": {k: [round(c.found[k].value, 4) for c in cards] for k in cards[0].found},
        "volumes": {k: [round(c.figures.volumes[k], 4) for c in cards] for k in cards[0].figures.volumes},
    }  # fmt: skip


def looked_at(rest: np.ndarray, points: np.ndarray) -> tuple[np.ndarray, float]:
    """The middle (3,) and half the height of a picture of what a shape moves, with some of what lies round it, metres."""
    moved = np.linalg.norm(points - rest, axis=1) > 1e-4 * float(np.ptp(rest, axis=0).max())
    of = rest[moved] if moved.any() else rest
    low, high = of.min(0), of.max(0)
    return 0.5 * (low + high), max(float((high - low).max()), 0.06 * float(np.ptp(rest, axis=0).max()))


def holder_of_point(character: Character, point: int) -> str:
    if character.skin is None:
        return ""
    return character.skin.joints[int(character.arrays["skin/joints"][point, 0])]
