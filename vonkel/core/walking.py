"""Stepping legs: a clip in which any number of feet take turns on uneven ground, and the body rides and tilts on them.

A foot stands for `duty` of each period and swings for the rest; feet follow one another by their phases.  Patterns for two and four
legs go by Hildebrand 1965, Symmetrical gaits of horses (duty factor, and how far a forefoot follows the hind foot of its
side, shares of the stride); six legs by the alternating tripod (Wilson 1966, Insect walking; both from memory).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import maximum_filter1d
from scipy.spatial.transform import Rotation

from .character import Character, Control, Ref, Stand, Track
from .errors import BadParameters, StepRefused
from .geometry.easing import smoothstep
from .geometry.measures import lengths_along
from .motion.clips import clip_named, frames_of
from .rig import compile_rig
from .rig.builder import WHOLE
from .rig.frames import angles_in_order, frame_of, place_of
from .rig.kits import gives
from .rig.kits.limb import limb_joints, limb_length, limb_target
from .rig.motion import clip_motion

STANDS = 0.2  # of the height: a limb whose target rests no higher than this over the ground is a leg
SEARCHED = 5, 12  # rings, and directions of each, in which a foot looks for a foothold
STEEP = 0.3  # of what makes a place a bad foothold: its slope against how far off it is
STRETCHED = 0.998  # of a leg's length: as straight as it gets
SMOOTH = 0.5  # of a period over which the body's ride is evened
MOST_FRAMES = 4000


@dataclass(frozen=True)
class Ground:
    """bumps (k, 4): x, z, radius and height of round hills, metres; holes (k, 3): x, z and radius of where there is no ground."""

    bumps: np.ndarray
    holes: np.ndarray

    def height(self, p: np.ndarray) -> np.ndarray:
        """(n,) metres over the level that the figure stands on, at places p (n, 2) of x and z; NaN over a hole."""
        out = np.zeros(len(p))
        for x, z, radius, high in self.bumps:
            d = np.hypot(p[:, 0] - x, p[:, 1] - z) / radius
            out += high * np.where(d < 1, (1 - d**2) ** 2, 0.0)
        for x, z, radius in self.holes:
            out[np.hypot(p[:, 0] - x, p[:, 1] - z) < radius] = np.nan
        return out

    def slope(self, p: np.ndarray, over: float) -> np.ndarray:
        """(n,) rise over run about places p (n, 2), across `over` metres."""
        dx, dz = np.array([over, 0.0]), np.array([0.0, over])
        gx = (self.height(p + dx) - self.height(p - dx)) / (2 * over)
        gz = (self.height(p + dz) - self.height(p - dz)) / (2 * over)
        return np.asarray(np.nan_to_num(np.hypot(gx, gz), nan=9.0))


@dataclass(frozen=True)
class Foot:
    """A foot that steps: its target control, how high that rests over the ground, and its place at rest (x, z)."""

    control: Control
    rest: np.ndarray  # (3,)
    side: str
    row: int  # among the feet of its side, the hindmost 0
    reach: float  # metres that its leg is long
    root: np.ndarray  # (3,) where the leg hangs, and
    end: np.ndarray  # (3,) the joint that the target holds, at rest


@dataclass(frozen=True)
class Gait:
    """stride: metres a period; lift: metres; period: seconds; duty: share of it that a foot stands; phases: by foot, when it comes down.

    aside, deep, high: how far a foot looks for its foothold, and how far under or over the level it may lie, metres.  Where
    there is none a foot reaches down by `deep` at the place it wanted, and finds no hold.  tilt: how much of the ground's tilt the
    body takes on.
    """

    stride: float
    lift: float
    period: float
    duty: float
    phases: tuple[float, ...]
    aside: float
    deep: float
    high: float
    tilt: float = 0.7

    @property
    def speed(self) -> float:
        """Metres a second."""
        return self.stride / self.period


def feet_of(character: Character) -> list[Foot]:
    """The feet that step: targets of limbs that rest near the ground, from the hindmost on, left before right.

    Raises StepRefused where there is none.
    """
    low = float(character.points[:, 1].min()) if len(character.points) else 0.0
    found = []
    for kit in character.kits:
        if not gives(kit, "goal"):
            continue
        target = limb_target(character, kit)
        if target is None or target.place[1] - low > STANDS * character.height:
            continue
        names = limb_joints(kit)
        root, end = (np.array(character.joint(n).place) for n in (names[0], names[-1]))
        found.append((target, limb_length(character, kit), root, end))
    if not found:
        raise StepRefused(
            "No foot stands on the ground by a target.", character.name, "Put legs on at the Limbs station first."
        )
    out = []
    for side in ("L", "R", "C"):
        mine = sorted((f for f in found if f[0].side == side), key=lambda f: f[0].place[2])
        out += [Foot(c, np.array(c.place), side, i, reach, a, b) for i, (c, reach, a, b) in enumerate(mine)]
    return sorted(out, key=lambda f: (f.row, f.side))


# Hildebrand's figures: duty factor, and the share of the stride by which a forefoot follows its side's hind foot.
FOUR = {"walk": (0.65, 0.25), "trot": (0.5, 0.5), "pace": (0.5, 0.0), "amble": (0.55, 0.2)}
PATTERNS = ("walk", "trot", "pace", "amble", "tripod", "one after the other")


def pattern(feet: list[Foot], name: str) -> tuple[tuple[float, ...], float]:
    """When each foot comes down, shares of the period, and the duty factor.  Raises BadParameters for one that doesn't suit."""
    rows = 1 + max(f.row for f in feet)
    if name == "one after the other":
        return tuple(i / len(feet) for i in range(len(feet))), 1.0 - 1.0 / max(len(feet), 2)
    if name == "tripod":
        if rows < 3:
            raise BadParameters("A tripod wants six legs or more.", "", "Choose walk, trot, pace or amble.")
        return tuple(0.5 * ((f.row + (f.side == "R")) % 2) for f in feet), 0.55
    if name not in FOUR:
        raise BadParameters(f"No gait is called “{name}”.", "", f"There are: {', '.join(PATTERNS)}.")
    duty, lag = FOUR[name]
    return tuple(
        (0.5 * (f.side == "R") + lag * f.row) % 1.0 for f in feet
    ), 0.62 if rows == 1 and name == "walk" else duty


class Path:
    """A way over the ground through places (k, 2) of x and z, smooth, by its length."""

    def __init__(self, places: np.ndarray) -> None:
        keep = np.r_[True, np.linalg.norm(np.diff(places, axis=0), axis=1) > 1e-9]
        p = places[keep]
        if len(p) < 2:
            raise BadParameters("A path wants two places or more.", "", "Draw it longer.")
        fine = [p[0]]
        padded = np.vstack([2 * p[0] - p[1], p, 2 * p[-1] - p[-2]])
        for i in range(1, len(padded) - 2):  # Catmull & Rom 1974, A class of local interpolating splines
            a, b, c, d = padded[i - 1 : i + 3]
            t = np.linspace(0, 1, 33)[1:, None]
            fine += list(
                0.5 * (2 * b + (c - a) * t + (2 * a - 5 * b + 4 * c - d) * t**2 + (3 * b - a - 3 * c + d) * t**3)
            )
        self.p = np.array(fine)
        self.s = lengths_along(self.p)

    @property
    def length(self) -> float:
        return float(self.s[-1])

    def at(self, s: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Places (n, 2) and headings (n,), radians from +z to +x, `s` (n,) metres along; straight on past both ends."""
        inner = np.clip(s, 0.0, self.length)
        out = np.stack([np.interp(inner, self.s, self.p[:, k]) for k in (0, 1)], 1)
        step = 1e-3 * self.length
        ahead, behind = np.clip(inner + step, 0, self.length), np.clip(inner - step, 0, self.length)
        way = np.stack(
            [np.interp(ahead, self.s, self.p[:, k]) - np.interp(behind, self.s, self.p[:, k]) for k in (0, 1)], 1
        )
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        return out + (s - inner)[:, None] * way, np.unwrap(np.arctan2(way[:, 0], way[:, 1]))


@dataclass(frozen=True)
class Walk:
    """tracks, and their values (f, t); when each foot stands."""

    tracks: tuple[Track, ...]
    values: np.ndarray
    stands: tuple[Stand, ...]


@dataclass(frozen=True)
class Course:
    """How a walk goes on in time: `phase` (f,) periods gone by at each frame, from `begin` to `end`; standing: it begins and ends
    with all feet on the ground."""

    gait: Gait
    path: Path
    phase: np.ndarray
    begin: float
    end: float
    standing: bool

    def along(self, phase: np.ndarray) -> np.ndarray:
        """Metres along the path."""
        return np.asarray(self.gait.stride * (phase - self.begin))


def course(gait: Gait, path: Path, rate: float, standing: bool = False) -> Course:
    """A walk along a path, begun in mid stride, or from standing to standing: then it takes whole steps, each a little longer or
    shorter than asked for, and gets into its stride and out of it over half a period."""
    length = path.length
    if not standing:
        frames = _few(int(round(length / gait.speed * rate)) + 1)
        phase = np.arange(frames) / rate / gait.period
        return Course(gait, path, phase, 0.0, float(phase[-1]), False)
    begin, half = _passing(gait)
    steps = max(half * round(length / gait.stride / half), 1.0)
    gait = replace(gait, stride=length / steps)
    ramp = min(0.5 * gait.period, steps * gait.period)
    lasts = steps * gait.period + ramp
    time = np.minimum(np.arange(_few(int(np.ceil(lasts * rate - 1e-6)) + 1)) / rate, lasts)

    def begun(t: np.ndarray) -> np.ndarray:
        """Periods gone by while the speed grows by a smoothstep over the ramp, and after it."""
        x = np.clip(t / ramp, 0.0, 1.0)
        return (ramp * (x**3 - 0.5 * x**4) + np.maximum(t - ramp, 0.0)) / gait.period

    phase = begin + np.where(time < 0.5 * lasts, begun(time), steps - begun(lasts - time))
    return Course(gait, path, phase, begin, begin + steps, True)


def _few(frames: int) -> int:
    if frames > MOST_FRAMES:
        raise BadParameters(f"That would be {frames} frames; {MOST_FRAMES} at most.", "", "Make the path shorter.")
    return frames


def _passing(gait: Gait) -> tuple[float, float]:
    """When in a period the feet are nearest to where they stand at rest, and after which share of it that is so again."""
    at = np.arange(128) / 128
    cycle = (at[:, None] - np.array(gait.phases)) % 1.0
    swung = gait.duty * ((cycle - gait.duty) / (1.0 - gait.duty) - 0.5)
    off = (np.where(cycle < gait.duty, cycle - 0.5 * gait.duty, swung) ** 2).sum(1)
    best = int(off.argmin())
    return float(at[best]), 0.5 if off[(best + 64) % 128] <= off[best] + 1e-9 else 1.0


def walked(character: Character, way: Course, ground: Ground, rate: float) -> Walk:
    """The walk along a course.

    Raises StepRefused where nothing can step or nothing carries the figure.
    """
    feet, gait = feet_of(character), way.gait
    if WHOLE not in character.control_named:
        raise StepRefused(
            "Nothing carries the figure as a whole.", character.name, "Put the kits on at the Limbs station."
        )
    if len(gait.phases) != len(feet):
        raise BadParameters(f"There are {len(feet)} feet and {len(gait.phases)} phases.", character.name)
    window = max(1, int(round(SMOOTH * gait.period * rate)))
    place, heading = way.path.at(way.along(way.phase))
    whole = character.control_named[WHOLE]
    centre = np.array(whole.place)
    every = [_strides(f, phase, way, ground, centre) for f, phase in zip(feet, gait.phases, strict=True)]
    stepped = [_stepped(f, s, way, ground) for f, s in zip(feet, every, strict=True)]
    world, facing, base = (np.stack(x, 1) for x in zip(*stepped, strict=True))
    high, pitch, roll = _ridden(feet, gait, base, window).T
    turn = Rotation.from_euler("YXZ", np.stack([heading, pitch, roll], 1)).as_matrix()
    moved = np.stack([place[:, 0], centre[1] + high, place[:, 1]], 1)
    moved[:, 1] -= _lowered(feet, world, facing, turn, moved - centre, centre, window, way.standing)
    tracks, columns = [], []

    def add(control: Control, moves: np.ndarray, turns: np.ndarray) -> None:
        still = np.zeros((len(turns), 3, 1))
        angles = np.array([angles_in_order(control.order, frame_of(m)) for m in np.concatenate([turns, still], 2)])
        for k, axis in enumerate("xyz"):
            for word, values in (("move", moves[:, k]), ("turn", np.unwrap(angles[:, k]))):
                tracks.append(Track(thing=Ref.control(control.name), channel=f"{word} {axis}"))
                columns.append(values)

    add(whole, moved - centre, turn)
    for i, foot in enumerate(feet):
        own = np.einsum("fji,fj->fi", turn, world[:, i] - moved) + centre - foot.rest
        add(foot.control, own, np.einsum("fji,fjk->fik", turn, facing[:, i]))
    stands = tuple(Stand(control=f.control.name, frames=s.frames(way.phase)) for f, s in zip(feet, every, strict=True))
    return Walk(tuple(tracks), np.stack(columns, 1), stands)


@dataclass(frozen=True)
class Strides:
    """A foot's stands in their order: when it comes down and lifts off (s,), periods; where it stands (s, 3), which way it faces
    (s,), how high the ground lies there (s,), whether that holds (s,)."""

    down: np.ndarray
    up: np.ndarray
    spots: np.ndarray
    yaw: np.ndarray
    level: np.ndarray
    held: np.ndarray

    def frames(self, phase: np.ndarray) -> tuple[tuple[int, int], ...]:
        """The first and the last frame of every stand that has any."""
        first, past = np.searchsorted(phase, self.down - 1e-9), np.searchsorted(phase, self.up + 1e-9, "right")
        return tuple((int(a), int(b) - 1) for a, b in zip(first, past, strict=True) if b > a)


def _strides(foot: Foot, phase: float, way: Course, ground: Ground, centre: np.ndarray) -> Strides:
    """Where and when a foot stands.  From standing it begins and ends where it rests, and a foot that would be on its way is
    lifted then, and set down at the end."""
    gait = way.gait
    first, last = int(np.floor(way.begin - phase)), int(np.floor(way.end - phase)) + 1
    down = np.arange(first, last + 1) + phase
    up = down + gait.duty
    middle = way.along(down + 0.5 * gait.duty)
    if way.standing:
        up[0] = max(up[0], way.begin)
        stands_last = last - first - (way.end - phase - (last - 1) < gait.duty)  # a foot on its way comes down then
        down, up, middle = down[: stands_last + 1], up[: stands_last + 1], middle[: stands_last + 1]
        down[0], middle[0] = -np.inf, 0.0
        down[-1], up[-1], middle[-1] = min(down[-1], way.end), np.inf, way.path.length
    where, yaw = way.path.at(middle)
    wanted = where + (_yawed(yaw) @ (foot.rest - centre))[:, [0, 2]]
    found = [_foothold(ground, w, gait) for w in wanted]
    level = np.array([h for _, h, _ in found])
    spots = np.array([[p[0], foot.rest[1] + h, p[1]] for p, h, _ in found])
    return Strides(down, up, spots, yaw, level, np.array([held for _, _, held in found]))


def _stepped(foot: Foot, strides: Strides, way: Course, ground: Ground) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where a foot is in the world (f, 3), which way it faces (f, 3, 3), and how high what it stands over lies, without its lift (f,)."""
    at = np.clip(np.searchsorted(strides.down, way.phase + 1e-12, "right") - 1, 0, len(strides.down) - 2)
    lasts = strides.down[at + 1] - strides.up[at]
    u = np.clip((way.phase - strides.up[at]) / np.maximum(lasts, 1e-9), 0.0, 1.0)
    share = smoothstep(u)

    def between(x: np.ndarray) -> np.ndarray:
        return np.asarray(x[at] + share.reshape(-1, *[1] * (x.ndim - 1)) * (x[at + 1] - x[at]))

    world = between(strides.spots)
    over = np.nan_to_num(ground.height(world[:, [0, 2]]), nan=0.0) + foot.rest[1] - world[:, 1]
    swings = (u > 0) & (u < 1)
    lift = way.gait.lift * np.minimum(lasts / (1 - way.gait.duty), 1.0)  # half a swing lifts half as far
    world[:, 1] += np.where(swings, 4 * u * (1 - u) * lift + np.maximum(over, 0.0), 0.0)
    return world, _yawed(between(strides.yaw)), between(strides.level)


def without_hold(character: Character, way: Course, ground: Ground) -> int:
    """How many steps of a walk find no foothold: the foot reaches down where it wanted to stand, and holds nothing."""
    whole = character.control_named.get(WHOLE)
    centre = np.array(whole.place) if whole is not None else np.zeros(3)
    feet = zip(feet_of(character), way.gait.phases, strict=True)
    return int(sum((~_strides(foot, phase, way, ground, centre).held).sum() for foot, phase in feet))


def _yawed(yaw: np.ndarray) -> np.ndarray:
    """(n, 3, 3): turns about the upright, from +z to +x."""
    return np.asarray(Rotation.from_euler("Y", yaw[:, None]).as_matrix())


def _foothold(ground: Ground, wanted: np.ndarray, gait: Gait) -> tuple[np.ndarray, float, bool]:
    """The nearest level place that may be stood on, its height, and whether there was one."""
    rings, ways = SEARCHED
    angle = np.linspace(0, 2 * np.pi, ways, endpoint=False)
    ring = np.stack([np.cos(angle), np.sin(angle)], 1)
    away = np.vstack([[[0.0, 0.0]], *(ring * gait.aside * (k + 1) / rings for k in range(rings))])
    p = wanted + away
    height = ground.height(p)
    ok = np.isfinite(height) & (height >= -gait.deep) & (height <= gait.high)
    if not ok.any():
        return wanted, -gait.deep, False
    cost = np.linalg.norm(away, axis=1) / max(gait.aside, 1e-9) + ground.slope(p, 0.1 * max(gait.aside, 1e-3)) / STEEP
    best = int(np.argmin(np.where(ok, cost, np.inf)))
    return p[best], float(height[best]), True


def _ridden(feet: list[Foot], gait: Gait, base: np.ndarray, window: int) -> np.ndarray:
    """(f, 3): how high the body rides, and how far it pitches and rolls: the plane through what the feet stand over, evened."""
    rest = np.array([f.rest[[0, 2]] for f in feet])
    rest = rest - rest.mean(0)
    spread = max(float(np.abs(rest).max()), 1e-9)
    a = np.column_stack([np.ones(len(feet)), rest])
    weak = np.diag([0.0, 0.02 * len(feet) * spread**2, 0.02 * len(feet) * spread**2])
    plane = np.linalg.solve(a.T @ a + weak, a.T @ base.T).T  # (f, 3): height, and rise to the left and ahead
    if len(feet) < 3:  # two feet hold no plane
        plane[:, 1:] = 0.0
    high, left, ahead = (_evened(x, window) for x in plane.T)
    return np.stack([high, -np.arctan(ahead) * gait.tilt, np.arctan(left) * gait.tilt], 1)


def _lowered(
    feet: list[Foot], world: np.ndarray, facing: np.ndarray, turn: np.ndarray, moved: np.ndarray, centre: np.ndarray, window: int,
    standing: bool,
) -> np.ndarray:  # fmt: skip
    """(f,) how far the body sinks so that every leg reaches its foot, evened over `window` frames and nowhere less than it must.  What
    begins and ends standing isn't lowered there."""
    need = np.zeros(len(world))
    for i, foot in enumerate(feet):
        end = world[:, i] + facing[:, i] @ (foot.end - foot.rest)
        root = (turn @ (foot.root - centre)) + centre + moved
        flat = np.linalg.norm((root - end)[:, [0, 2]], axis=1)
        high = np.sqrt(np.maximum((STRETCHED * foot.reach) ** 2 - flat**2, 0.0))
        need = np.maximum(need, root[:, 1] - end[:, 1] - high)
    evened = _evened(maximum_filter1d(need, window, mode="nearest"), window)
    if standing:
        ends = np.minimum(np.arange(len(need)), np.arange(len(need))[::-1])
        evened = evened * smoothstep(np.minimum(ends / (2 * window), 1.0))
    return np.asarray(np.maximum(evened, need))


def _evened(values: np.ndarray, window: int) -> np.ndarray:
    """Values (f,) as means over `window` frames, the middle ones weighing most; both ends go on as they are."""
    if window < 2:
        return values
    kernel = np.hanning(window + 2)[1:-1]
    padded = np.concatenate([np.repeat(values[:1], window), values, np.repeat(values[-1:], window)])
    return np.asarray(np.convolve(padded, kernel / kernel.sum(), "same")[window:-window])


@dataclass(frozen=True)
class Kept:
    """How well planted feet stay: the farthest that one slides while it stands, and that it is from where it should be, of its leg."""

    slid: float
    missed: float


def feet_kept(character: Character, name: str) -> Kept:
    """What of a clip's planted feet the solve keeps: where the joints that the targets hold really are."""
    motion, count = clip_motion(compile_rig(character), character, name), len(frames_of(character, name))
    stands = {s.control: s.frames for s in clip_named(character, name).stands}
    feet, poses = feet_of(character), [motion.pose(k) for k in range(count)]
    slid = missed = 0.0
    for foot in feet:
        kit = next(k for k in character.kits if k.name == foot.control.kit)
        joint = character.joint_index[limb_joints(kit)[-1]]
        at = np.array([p.joints[joint, :, 3] for p in poses])
        target = np.array([place_of(p.controls[foot.control.name]) for p in poses])
        off = at - target - (foot.end - foot.rest)
        missed = max(missed, float(np.linalg.norm(off, axis=1).max()) / foot.reach)
        for a, b in stands.get(foot.control.name, ()):
            own = at[a : b + 1]
            slid = max(slid, float(np.linalg.norm(own - own.mean(0), axis=1).max()) / foot.reach)
    return Kept(slid, missed)
