"""Running the trials: every pose deformed as it will be handed over, measured, graded and pictured; worst first."""

from __future__ import annotations

import base64
import hashlib
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from ..character import Character, Clip
from ..errors import StepRefused
from ..geometry.measures import lengths
from ..geometry.topology import topology_of
from ..joints.limbs import limb_of
from ..progress import tell
from ..recent import Recent
from ..rig import Pose
from ..skin import Deformer
from ..skin.deform import HANDED
from .clips import tried_frames
from .evenness import even_pose
from .faces import LidLook
from .limits import limits_of
from .measure import Figures, Measurer, allowance, gathering_points
from .measures import MEASURES, Found, found_at, grade, judge
from .moving import MotionLook
from .named import Tried, angle_tried, frame_tried, posed, shown_close, trial_called
from .picture import heat_colours, picture, png
from .sweeps import Sweep, sweeps

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
    limits: Mapping[str, float] = field(default_factory=dict)  # what was held to pass, where that isn't the usual
    curve: dict[str, Any] | None = None  # of a sweep: angles (radians), and what each measure and limb does over them

    def as_dict(self, with_picture: bool = False) -> dict[str, Any]:
        """Raw figures for reports: lengths in metres, ratios posed over rest; the picture as base64."""
        f = self.figures
        return {
            **({"picture": base64.b64encode(self.picture).decode()} if with_picture else {}),
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
                    "limit": round(self.limits.get(k, MEASURES[k].limit), 4), "source": MEASURES[k].source, "share": round(v.share, 4), "words": v.words, "point": v.point,
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


class Bench:
    """What a character's poses are tried with.  Figures and pictures of posed points that were looked at lately are kept, so that after
    a change only the poses that it moves are measured and drawn again, and of these only points that are held otherwise are deformed."""

    def __init__(self, character: Character) -> None:
        self.character = character
        self.deformer = Deformer(character)
        self.rest, self.limits, self.by = _seal(character), limits_of(character), _deforms_by(character)
        # held so before, and which points are held otherwise now
        self._rows: list[tuple[tuple[np.ndarray, np.ndarray], np.ndarray]] = []
        self._lids: LidLook | None = None

    @cached_property
    def measurer(self) -> Measurer:
        return Measurer(self.character)

    @cached_property
    def triangles(self) -> np.ndarray:
        return topology_of(self.character).triangles

    def card(self, tried: Tried, pictures: bool, with_live: bool = True) -> Card:
        """The card of one pose; without `with_live` nothing is said of how the live skin differs."""
        start = time.perf_counter()
        character = self.character
        pose = tried.pose()
        kept = self._kept(tried, pose, with_live)
        figures = replace(kept.figures, touching_told=tried.body)
        if tried.face is not None:
            self._lids = self._lids or LidLook(character)
            figures = replace(figures, lidded=self._lids.look(kept.points.astype(float), tried.face.shut))
        if tried.moving is not None:
            figures = replace(figures, moving=tried.moving())
        found = found_at(figures, self.limits)
        badness, worst, at = judge(found)
        spent = time.perf_counter() - start
        if pictures and not kept.picture:
            kept.picture = self._picture(kept.points.astype(float), figures, tried.contact)
        joint = _holder(character, at)
        return Card(
            tried.name, tried.about, grade(badness), badness, figures, found, worst, joint, at,
            _gap(kept.away if with_live else None), kept.picture if pictures else b"", spent,
            tuple(_holder(character, p) for p in figures.places), character.limits,
        )  # fmt: skip

    def _kept(self, tried: Tried, pose: Pose, with_live: bool) -> _Kept:
        """What is known of a pose: what was known of it before where its points are where they were then."""
        even = even_pose(self.character, pose, pose.skin_matrices(self.deformer.rest_inverse))
        touch = tried.contact or tried.body
        key = (self.rest, tried.name, touch, even)
        before = _KEPT.peek(key)
        points, away = self._deformed(pose, with_live, before)
        if before is not None and (
            points is before.points or np.abs(before.points - points).max(initial=0.0) <= STILL * self.character.size
        ):
            made = replace(before, away=away, held=self._held, by=self.by, pose=pose)
        else:
            figures = self.measurer.measure(points.astype(float), contact=touch, even=even)
            made = _Kept(points, away, figures, self.by, self._held, pose)
        _KEPT.put(key, made)
        return made

    def _deformed(self, pose: Pose, with_live: bool, before: _Kept | None) -> tuple[np.ndarray, np.ndarray | None]:
        """Posed points as they go out (n, 3) float32, and how far they are from the live ones (n,), where that is asked for."""
        if before is not None and self.by and before.by == self.by and (before.away is not None or not with_live):
            rows = self._changed(before) if _same(before.pose, pose) else None
            if rows is not None and len(rows) == 0:
                return before.points, before.away
            if rows is not None and len(rows) < FEW * len(before.points):
                points, away = before.points.copy(), None
                points[rows] = self.deformer.deform_some(pose, rows, HANDED_OVER)
                if with_live and before.away is not None:
                    away = before.away.copy()
                    away[rows] = lengths(points[rows].astype(float) - self.deformer.deform_some(pose, rows))
                return points, away
        live = self.deformer.deform(pose).astype(float) if with_live else None
        points = self.deformer.deform(pose, HANDED_OVER).copy()
        return points, lengths(points.astype(float) - live).astype(np.float32) if live is not None else None

    @property
    def _held(self) -> tuple[np.ndarray, np.ndarray] | None:
        arrays = self.character.arrays
        return (arrays["skin/joints"], arrays["skin/weights"]) if self.character.skin is not None else None

    def _changed(self, before: _Kept) -> np.ndarray | None:
        """The points that are held otherwise than they were; None where that can't be said."""
        if before.held is None or self._held is None or before.held[0].shape != self._held[0].shape:
            return None
        for held, rows in self._rows:
            if held[0] is before.held[0] and held[1] is before.held[1]:
                return rows
        differ = [(a != b).any(1) for a, b in zip(before.held, self._held, strict=True)]
        self._rows.append((before.held, np.flatnonzero(differ[0] | differ[1])))
        return self._rows[-1][1]

    def _picture(self, points: np.ndarray, figures: Figures, near: bool) -> bytes:
        box = looked_at(self.character.points, points) if near else None
        return png(picture(points, self.triangles, heat_colours(figures.heat), (180, 180), box=box))


@dataclass
class _Kept:
    """What is known of a pose: its points as they go out (n, 3) float32, how far they are from the live ones (n,), figures and picture;
    and what they were made by: the seal, joints and weights, and the pose."""

    points: np.ndarray
    away: np.ndarray | None
    figures: Figures
    by: str
    held: tuple[np.ndarray, np.ndarray] | None
    pose: Pose
    picture: bytes = b""


STILL = 1e-6  # of the size: points that moved by less are where they were
FEW = 0.3  # of the points: when more are held otherwise all are deformed anew
_KEPT: Recent[tuple[str, str, bool, bool], _Kept] = Recent(240)


def _same(a: Pose, b: Pose) -> bool:
    return np.array_equal(a.joints, b.joints) and np.array_equal(a.scales, b.scales) and a.shapes == b.shapes


def _gap(away: np.ndarray | None) -> tuple[float, float, float]:
    """Root mean square, of 99 in 100 points, largest."""
    if away is None or not away.any():
        return 0.0, 0.0, 0.0
    far = away.astype(float)
    return float(np.sqrt((far**2).mean())), float(np.percentile(far, 99)), float(far.max())


def _deforms_by(character: Character) -> str:
    """All that posed points hang on but joints and weights of the skin; empty where a point also hangs on others."""
    skin = character.skin
    if skin is None or skin.smoothing or skin.handed:
        return ""
    names = [
        n for n in character.arrays if n.startswith(("skin/", "shape/")) and n not in ("skin/joints", "skin/weights")
    ]
    return character.seal("points", "joints", "skin", "shapes", *sorted(names))


def _seal(character: Character) -> str:
    """All but the posed points that figures hang on: the mesh at rest, whose limb each point is, and what lies in folds."""
    body = character.seal("points", "face_starts", "face_corners", "parts", "joints")
    if character.skin is None:
        return body
    holders = character.skin.joints
    limbs = np.array([limb_of(character, n) for n in holders])
    whose = np.unique(limbs, return_inverse=True)[1][character.arrays["skin/joints"][:, 0]]
    told = whose.astype(np.uint16).tobytes() + gathering_points(character).tobytes() + allowance(character).tobytes()
    return body + hashlib.blake2b(told, digest_size=16).hexdigest()


def run_trials(character: Character, pictures: bool = True, only: str = "", with_sweeps: bool = False) -> list[Card]:
    """All trial poses, saved poses, kept motions and shapes, worst first; or the one that is called `only`.  with_sweeps: every joint through its
    freedom, too, a card for the worst angle of each.

    Raises StepRefused without a skin or a shape to try.
    """
    if character.skin is None and not character.shapes:
        raise StepRefused("There is no skin to try yet.", character.name, "Bind the skin first.")
    bench = Bench(character)
    if only:
        one = trial_called(character, only)
        return [bench.card(one, pictures)] if one is not None and (character.skin is not None or one.contact) else []
    skinned = character.skin is not None
    todo = [*(posed(character) if skinned else ()), *shown_close(character)]
    over = sweeps(character) if with_sweeps else ()
    clips = character.clips if skinned else ()
    count = max(len(todo) + len(over) + len(clips), 1)
    cards: list[Card] = []
    for tried in todo:
        tell(len(cards) / count, f"trying “{tried.name}”")
        cards.append(bench.card(tried, pictures))
    for sweep in over:
        tell(len(cards) / count, f"turning {sweep.name}")
        cards.append(swept_card(bench, sweep, pictures))
    for clip in clips:
        tell(len(cards) / count, f"playing {clip.name}")
        cards.append(clip_card(bench, clip, pictures))
    return sorted(cards, key=lambda c: -c.badness)


def swept_card(bench: Bench, sweep: Sweep, pictures: bool) -> Card:
    """The card of the worst angle of a sweep, with the curves of all measures and volumes over it."""
    told = {"joint": sweep.joint, "axis": sweep.axis, "angles": [round(a, 5) for a in sweep.angles]}
    return _worst_of(bench, [angle_tried(bench.character, sweep, a) for a in sweep.angles], told, pictures)


def clip_card(bench: Bench, clip: Clip, pictures: bool) -> Card:
    """The card of a motion's worst frame, with the curves of all measures and volumes over its frames."""
    look = MotionLook(bench.character, clip)
    frames = sorted({*tried_frames(bench.character, clip), *look.worst_frames()})
    told = {
        "clip": clip.name, "frames": frames,
        "feet": [{"foot": k.foot, "share": round(k.share, 4), "slid": round(k.slid, 5)} for k in look.contacts()],
    }  # fmt: skip
    return _worst_of(bench, [frame_tried(look, f) for f in frames], told, pictures)


def _worst_of(bench: Bench, row: list[Tried], told: dict[str, Any], pictures: bool) -> Card:
    """The card of the worst of poses that follow one another, with curves over all of them; `told`: what they run over."""
    cards = [bench.card(t, False, False) for t in row]
    worst = max(range(len(cards)), key=lambda i: cards[i].badness)
    curve = {
        **told, "names": [c.name for c in cards], "grades": [c.grade for c in cards],
        "badness": [round(c.badness, 4) for c in cards],
        "measures": {k: [round(c.found[k].value, 4) for c in cards] for k in cards[0].found},
        "volumes": {k: [round(c.figures.volumes[k], 4) for c in cards] for k in cards[0].figures.volumes},
    }  # fmt: skip
    return replace(bench.card(row[worst], pictures), curve=curve, seconds=sum(c.seconds for c in cards))


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
