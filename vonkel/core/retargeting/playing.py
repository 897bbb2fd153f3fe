"""A capture played on our rig: its turns carried over joint by joint, its travel in proportion, its planted feet kept planted.

Where both skeletons rest otherwise, a limb's bone takes the capture's direction: our rest is first turned, by the shortest way, as the
capture's.  A trunk, a head and a foot only take on how far theirs have turned since rest, a foot besides the heading of its rest.
Everything is set through controls, so what comes out is an ordinary motion of the rig.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, maximum_filter1d

from ..character import Character, Inputs, Kit, Ref, Stand, Track
from ..character.refs import SHAPES
from ..errors import BadParameters, StepRefused
from ..geometry.rotations import turn_between
from ..motion.capture import Capture
from ..motion.clips import with_clip
from ..motion.keyed import rest_of
from ..progress import tell
from ..rig import RigProgram, compile_rig
from ..rig.builder import WHOLE
from ..rig.drag import gripped, moved_to
from ..rig.frames import frame_of, place_of, quat_from_frame
from ..rig.kits import gives
from ..rig.kits.limb import limb_joints, limb_target
from ..rig.match import switched
from ..walking import Foot, feet_of
from .feet import Contact, Standing, corrections, standing_joint, stands_of
from .matching import axes_of, one_skeleton, own_build

MOST = 20_000  # frames
REACH = 0.995  # of a leg's length: the body sinks rather than let a foot be pulled off its place
EVEN = 0.12  # seconds over which that is evened
PASSES = 2  # for a control that several joints share
STILL = 1e-6  # a track that never leaves its rest by more is left out


@dataclass(frozen=True)
class Played:
    """The character with the motion, and what is known of its feet: when each stood in the capture."""

    character: Character
    clip: str
    contacts: tuple[Contact, ...]


@dataclass(frozen=True)
class _Lead:
    """A control that turns one of our joints, what of the capture leads it, and how their rests lie to one another."""

    control: str
    joint: int
    source: int
    rest: np.ndarray  # (3, 3): our joint's turn at rest, carried into the capture's rest
    level: int


def played(
    character: Character, capture: Capture, matches: Mapping[str, str], name: str, rate: float = 0.0, plant: bool = True,
    travel: bool = True,
) -> Played:  # fmt: skip
    """The character with one more motion: the capture's, on this rig.  matches: our joint → the capture's.

    rate: frames a second, 0: this work's.  plant: feet that stand in the capture stay where they stand.  travel: it goes where the
    capture goes.  Raises BadParameters, StepRefused.
    """
    names = {n: i for i, n in enumerate(capture.skeleton.names)}
    strange = [s for s in matches.values() if s and s not in names]
    if strange:
        raise BadParameters(f"The capture has no joint “{strange[0]}”.", name, "Choose one that it has.")
    rate = rate or character.rate
    taken = capture.at_rate(rate)
    if len(taken.rows) > MOST:
        raise BadParameters(f"It would be {len(taken.rows):,} frames.", name, "Cut it into shorter motions.")
    there = {ours: names[s] for ours, s in matches.items() if s}
    stage = Stage(character, taken, there)
    if not stage.leads:
        raise StepRefused("No joint that a control turns is matched.", name, "Match the hips and the limbs first.")
    frames = len(taken.rows)
    values: list[Inputs] = []
    for f in range(frames):
        if not f % 8:
            tell(0.7 * f / frames, f"frame {f:,} of {frames:,}")
        values.append(stage.posed(f, travel, values[-1] if values else {}))
    found = stage.planted(values, rate, plant)
    tracks, rows = tabled(character, values)
    made = with_clip(character, name, rate, tracks, rows)
    stands = tuple(Stand(control=k.foot, frames=k.stands) for k in found)
    clip = made.clips[-1].model_copy(update={"stands": stands})
    return Played(made.with_(clips=(*made.clips[:-1], clip)), clip.name, tuple(found))


@dataclass(frozen=True)
class _Step:
    """A foot that is matched: rows of its leg's first joint, of the joint that the target holds and of the one that stands, and the
    capture's joint that tells when."""

    foot: Foot
    kit: Kit
    root: int
    end: int
    point: int
    source: int


class Stage:
    """What is worked out once for a motion: our rig, the capture in our space, and which control turns which joint."""

    def __init__(self, character: Character, capture: Capture, there: Mapping[str, int]) -> None:
        self.character, self.there, self.skeleton = character, there, capture.skeleton
        self._before: Inputs = {}
        self.program: RigProgram = compile_rig(character)
        # Rows are its left, up and ahead, which are our x, y and z.
        axes = self.axes = axes_of(character, capture.skeleton, there)
        self.places = capture.places @ axes.T
        self.turns = axes @ capture.turns @ axes.T
        self.rest = capture.skeleton.rest @ axes.T
        self.ours = one_skeleton(character, there)
        self.row = {j.name: i for i, j in enumerate(character.joints)}
        self.own = self.program.evaluate({}).joints
        self.build, self.limbs = own_build(character), [k for k in character.kits if gives(k, "goal")]
        self.feet = feet_if_any(character)
        self.scale = self._scale(there)
        self.body = next((c.name for c in character.controls if c.key == "body"), WHOLE)
        hips = self.build.trunk["hips"][0]
        self.hips_row, self.hips = self.row[hips], there.get(hips, 0)
        self.leads = self._leads(there)
        self.levels = self._levels()
        targets = (limb_target(character, k) for k in self.limbs)
        # Limbs go joint by joint, and no foot pushes the body: the capture says where that is.
        self.loose: Inputs = {t.name: {"ik": 0.0} for t in targets if t is not None}
        self.loose |= {c.name: {"push": 0.0} for c in character.controls if c.key == "stance"}
        self.steps = [s for s in (self._step(f) for f in self.feet) if s is not None]
        low = float(character.points[:, 1].min()) if len(character.points) else float(self.own[:, 1, 3].min())
        if self.steps:  # their ground is where what stands gets lowest, ours as far under what stands
            self.ground = float(np.percentile([self.places[:, s.source, 1].min() for s in self.steps], 50))
            self.sole = float(np.mean([self.own[s.point, 1, 3] for s in self.steps]))
        else:
            self.ground = float(np.percentile(self.places[:, :, 1].min(1), 5))
            self.sole = low

    def _leads(self, there: Mapping[str, int]) -> list[_Lead]:
        """Controls with the joints that they turn, from the trunk on outwards."""
        out: list[_Lead] = []
        hips, chest, head = (next(iter(self.build.trunk[p][::-1]), "") for p in ("hips", "chest", "head"))
        keys = {"body": hips, "chest": chest, "head": head}
        for control in self.character.controls:
            joint = keys.get(control.key) or control.key.removeprefix("turn:") * control.key.startswith("turn:")
            if not joint or joint not in there or (control.key.startswith("turn:") and joint in (chest, head)):
                continue
            if any(m.joint == self.row[joint] for m in out):
                continue
            out.append(
                _Lead(control.name, self.row[joint], there[joint], self._carried(joint, there), self._depth(joint))
            )
        return sorted(out, key=lambda m: m.level)

    def _levels(self) -> list[tuple[list[_Lead], int]]:
        """The leads from the trunk outwards, those that don't hang from one another together, and how often each is turned."""
        out = []
        for level in sorted({m.level for m in self.leads}):
            mine = [m for m in self.leads if m.level == level]
            shared = any(self.character.control_named[m.control].key in ("chest", "head") for m in mine)
            out.append((mine, PASSES if shared else 1))
        return out

    def _depth(self, joint: str) -> int:
        depth, up = 0, self.character.joint(joint).parent
        while up:
            depth, up = depth + 1, self.character.joint(up).parent
        return depth

    def _carried(self, joint: str, there: Mapping[str, int]) -> np.ndarray:
        """Our joint's turn at rest, once our bones lie as the capture's do at rest."""
        own: np.ndarray = self.own[self.row[joint], :, :3]
        kind = self._kind(joint)
        if kind == "trunk":
            return own
        if kind == "end":  # a hand goes on as its forearm lies, a foot keeps to the ground
            foot = any(f.control.kit == k.name for f in self.feet for k in self.limbs if limb_joints(k)[-1] == joint)
            if not foot:
                up = self.character.joint(joint).parent
                turn = self._turned(up, there) if up else np.eye(3)
            else:
                turn = self._headed(joint, there)
        else:
            turn = self._turned(joint, there)
        return np.asarray(turn @ own)

    def _kind(self, joint: str) -> str:
        for kit in self.limbs:
            names = limb_joints(kit)
            if joint == names[-1]:
                return "end"
            if joint in names or joint in kit.joints.get("collar", ()):
                return "limb"
        return "trunk"

    def _bone(self, joint: str, there: Mapping[str, int]) -> tuple[np.ndarray, np.ndarray] | None:
        """Which way a bone goes at rest, ours and the capture's: to the next joint below that is matched."""
        todo = [j.name for j in self.character.joints if j.parent == joint]
        while todo:
            child = todo.pop(0)
            if child in there and there[child] != there.get(joint):
                a = self.own[self.row[child], :, 3] - self.own[self.row[joint], :, 3]
                b = self.rest[there[child]] - self.rest[there[joint]]
                if min(np.linalg.norm(a), np.linalg.norm(b)) > 1e-9:
                    return a / np.linalg.norm(a), b / np.linalg.norm(b)
            todo += [j.name for j in self.character.joints if j.parent == child]
        return None

    def _turned(self, joint: str, there: Mapping[str, int]) -> np.ndarray:
        """(3, 3): the shortest turn of our bone at rest to the capture's."""
        found = self._bone(joint, there) if joint in there else None
        return turn_between(*found) if found is not None else np.eye(3)

    def _headed(self, joint: str, there: Mapping[str, int]) -> np.ndarray:
        """(3, 3): the turn about the upright of our foot's heading to the capture's."""
        found = self._bone(joint, there)
        if found is None:
            return np.eye(3)
        a, b = (np.array([v[0], 0.0, v[2]]) for v in found)
        if min(np.linalg.norm(a), np.linalg.norm(b)) < 0.1:
            return np.eye(3)
        return turn_between(a / np.linalg.norm(a), b / np.linalg.norm(b))

    def _scale(self, there: Mapping[str, int]) -> float:
        """Our metres for a unit of the capture: by the length of legs that stand, or the size of both skeletons."""
        ours, theirs = [], []
        for foot in self.feet:
            names = limb_joints(next(k for k in self.limbs if k.name == foot.control.kit))
            if all(n in there for n in names):
                ours.append(foot.reach)
                at = self.rest[[there[n] for n in names]]
                theirs.append(float(np.linalg.norm(np.diff(at, axis=0), axis=1).sum()))
        if ours and min(theirs) > 0:
            return float(np.mean(ours) / np.mean(theirs))
        return float(np.ptp(self.own[:, :, 3], axis=0).max() / max(np.ptp(self.rest, axis=0).max(), 1e-9))

    def posed(self, frame: int, travel: bool, before: Inputs) -> Inputs:
        """The controls' values at a frame, every limb joint by joint."""
        values: Inputs = {c: dict(v) for c, v in self.loose.items()}
        for i, (leads, passes) in enumerate(self.levels):
            for _ in range(passes):
                self._turn_level(frame, values, leads, before)
            if i == 0:
                self._carry(frame, travel, values)
        return values

    def fed(self, row: np.ndarray) -> Inputs:
        """The controls' values at one more frame (width,) of a performance that goes on; feet aren't planted."""
        places, turns = self.skeleton.posed(row[None])
        self.places = np.concatenate([self.places[:1], places @ self.axes.T])
        self.turns = np.concatenate([self.turns[:1], self.axes @ turns @ self.axes.T])
        self._before = self.posed(1, True, self._before)
        return self._before

    def _carry(self, frame: int, travel: bool, values: Inputs) -> None:
        """Take the body where the hips belong."""
        pose = self.program.evaluate(values)
        off = self._wanted_hips(frame, travel) - pose.joints[self.hips_row, :, 3]
        x, y, z = (float(v) for v in np.array(place_of(pose.controls[self.body])) + off)
        values[self.body] = gripped(self.program, values, self.body, pose).moved_to((x, y, z))

    def _turn_level(self, frame: int, values: Inputs, leads: list[_Lead], before: Inputs) -> None:
        pose = self.program.evaluate(values)
        for m in leads:
            wanted = self.turns[frame, m.source] @ m.rest
            by = wanted @ pose.joints[m.joint, :, :3].T
            held = gripped(self.program, values, m.control, pose)
            turn = np.zeros((3, 4))
            turn[:, :3] = by
            given = held.turned_by(quat_from_frame(frame_of(turn)))
            values[m.control] = _near(given, before.get(m.control, {}))

    def _wanted_hips(self, frame: int, travel: bool) -> np.ndarray:
        """(3,) metres: where the hips belong, as high over our ground as theirs over where their feet get lowest."""
        start = np.zeros(3) if self.ours else self.places[0, self.hips]
        at = self.scale * (self.places[frame, self.hips] - start)
        if not self.ours:  # it begins where our figure stands
            at = at + self.own[self.hips_row, :, 3]
        if not travel:
            at[[0, 2]] = self.own[self.hips_row, [0, 2], 3]
        at[1] = self.sole + self.scale * (self.places[frame, self.hips, 1] - self.ground)
        return np.asarray(at)

    def planted(self, values: list[Inputs], rate: float, plant: bool) -> list[Contact]:
        """Legs led by their targets, standing where they stand in the capture; the body sinks where a leg would not reach."""
        if not self.steps:
            return []
        poses = [self.program.evaluate(v).joints for v in values]
        need, offs = np.zeros(len(values)), []
        for s in self.steps:
            at = np.array([p[s.point, :, 3] for p in poses])
            stands = stands_of(self.scale * self.places[:, s.source], s.foot.reach, rate)
            off = (
                corrections(at, stands, float(self.own[s.point, 1, 3]), s.foot.reach, rate)
                if plant
                else np.zeros_like(at)
            )
            offs.append((stands, off))
            hip, end = (np.array([p[k, :, 3] for p in poses]) for k in (s.root, s.end))
            flat = np.linalg.norm((hip - end - off)[:, [0, 2]], axis=1)
            high = np.sqrt(np.maximum((REACH * s.foot.reach) ** 2 - flat**2, 0.0))
            need = np.maximum(need, hip[:, 1] - (end + off)[:, 1] - high)
        sinks = _sinking(need, rate)
        for f, given in enumerate(values):
            if not f % 8:
                tell(0.7 + 0.3 * f / len(values), f"feet, frame {f:,} of {len(values):,}")
            values[f] = self._stood(given, [off[f] for _, off in offs], float(sinks[f]))
        after = np.array([self.program.evaluate(v).joints[:, :, 3] for v in values])
        return [
            Standing(s.foot.control.name, s.point, tuple(stands), s.foot.reach).contact(after)
            for s, (stands, _) in zip(self.steps, offs, strict=True)
        ]

    def _step(self, foot: Foot) -> _Step | None:
        """The joints of a foot that is matched, ours and the capture's."""
        kit = next(k for k in self.limbs if k.name == foot.control.kit)
        names = limb_joints(kit)
        if names[-1] not in self.there or names[0] not in self.there:
            return None
        point = standing_joint(self.character, foot)
        source = self.there.get(point, self.there[names[-1]])
        return _Step(foot, kit, self.row[names[0]], self.row[names[-1]], self.row[point], source)

    def _stood(self, values: Inputs, offs: list[np.ndarray], sinks: float) -> Inputs:
        x, y, z = place_of(self.program.evaluate(values).controls[self.body])
        out = {**values, self.body: moved_to(self.program, values, self.body, (x, y - sinks, z))}
        for s, off in zip(self.steps, offs, strict=True):
            out = switched(self.character, self.program, out, s.kit.name, "ik")
            target = s.foot.control.name
            at = np.array(place_of(self.program.evaluate(out).controls[target])) + off + [0.0, sinks, 0.0]
            out[target] = moved_to(self.program, out, target, (float(at[0]), float(at[1]), float(at[2])))
        return out


def _sinking(need: np.ndarray, rate: float) -> np.ndarray:
    """(f,) how far the body sinks: evened, and nowhere less than a leg needs."""
    need = np.maximum(need, 0.0)
    width = max(1, round(EVEN * rate))
    return np.asarray(
        np.maximum(
            gaussian_filter1d(maximum_filter1d(need, 2 * width + 1, mode="nearest"), width, mode="nearest"), need
        )
    )


def _near(given: dict[str, float], before: dict[str, float]) -> dict[str, float]:
    """Turns by whole rounds next to those of the frame before."""
    out = dict(given)
    for k, v in given.items():
        if k.startswith("turn ") and k in before:
            out[k] = v - 2 * np.pi * round((v - before[k]) / (2 * np.pi))
    return out


def feet_if_any(character: Character) -> list[Foot]:
    """The feet that stand on the ground by a target; none where there are none."""
    try:
        return feet_of(character)
    except StepRefused:
        return []


def tabled(character: Character, values: list[Inputs]) -> tuple[tuple[Track, ...], np.ndarray]:
    """Tracks of everything that leaves its rest in poses that follow one another, and its values (f, t)."""
    names = dict.fromkeys((c, k) for v in values for c, given in v.items() for k in given)
    tracks, columns = [], []
    for control, channel in names:
        shape = control == SHAPES
        track = Track(thing=Ref.shape(channel) if shape else Ref.control(control), channel="" if shape else channel)
        rest = rest_of(character, track)
        column = np.array([v.get(control, {}).get(channel, rest) for v in values])
        if np.abs(column - rest).max() > STILL:
            tracks.append(track)
            columns.append(column)
    if not tracks:
        raise StepRefused("Nothing moves.", character.name, "Match more joints, or bring in another motion.")
    return tuple(tracks), np.stack(columns, 1)
