"""What one open page holds of a character, and its answers to what the page asks while something is dragged or played."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.character import Character, Inputs
from ..core.errors import BadParameters
from ..core.joints.edit import moved_places
from ..core.motion.clips import clip_named, length_of
from ..core.rig import Clock, PartialEvaluator, Pose, RigProgram, compile_rig
from ..core.rig.drag import Grip, grip
from ..core.rig.motion import Motion, clip_motion, there_and_back
from ..core.rig.reach import reached
from ..core.skin import Deformer
from ..core.trials import HANDED_OVER, trial_pose
from ..core.trials.measure import Measurer
from .messages import (
    LIGHT,
    AnyMessage,
    ClipMessage,
    HeardMessage,
    JointMessage,
    MotionMessage,
    MoveMessage,
    PoseMessage,
    ReachMessage,
    Samples,
    TrialMessage,
    TurnMessage,
)
from .workshop import Workshop


@dataclass(frozen=True)
class Frame:
    """One answer: what is said of it, and its blocks of float32 numbers by name, in their order."""

    sequence: int
    said: dict[str, Any]
    blocks: tuple[tuple[str, np.ndarray], ...] = ()


@dataclass
class Stroke:
    """One pull of a brush over a character: every place that it passed, in their order."""

    character: Character
    number: int
    brush: str
    how: dict[str, Any] = field(default_factory=dict)
    samples: list[tuple[float, ...]] = field(default_factory=list)
    done: bool = False
    kept: Any = None  # the brush's own


Told = tuple[dict[str, Any], tuple[tuple[str, np.ndarray], ...]]
BRUSHES: dict[str, Callable[[Session, Stroke, Sequence[tuple[float, ...]]], Told]] = {}
"""Brush → what it does with new places of a stroke, and what the page is told of that: in words, and as blocks of numbers.  It
is called once for each batch, in their order; nothing is stored before the hand lets go and the page does a step."""

RUN = 128  # points that are told of together: one that moved brings its neighbours along
MOST = 0.6  # of the points: when more has moved, all are sent


@dataclass
class Session:
    """The compiled rig and the deformer of the state that a page looks at, and what is in its hand."""

    workshop: Workshop
    number: int
    step: int = 0
    character: Character | None = None
    program: RigProgram | None = None
    follower: PartialEvaluator | None = None
    deformer: Deformer | None = None
    measurer: Measurer | None = None
    held: Grip | None = None  # the control in the hand, as it was when the drag began
    off: frozenset[str] = frozenset()  # operations left out, to see what they do
    clock: Clock | None = None  # runs while springs and swings are shown live
    ticked: float = 0.0
    motion: tuple[Any, Motion] | None = None  # the motion that is being tried, by what it was made from
    said: dict[str, Any] = field(default_factory=dict)
    sent: int | None = None  # the frame that was last answered
    cut: tuple[np.ndarray, list[int], np.ndarray] | None = None  # what moved in it, its runs, and the points in them
    stroke: Stroke | None = None
    pose: Pose | None = None  # the one that was shown last
    over: bool = False  # and whether as handed over

    def look(self, step: int, off: frozenset[str] = frozenset()) -> None:
        """Take up a state; nothing is done when it is the one at hand."""
        same = step == self.step and self.character is not None
        if same and off == self.off:
            return
        if not same:
            self.character = self.workshop.character(self.number, step)
            self.deformer, self.measurer, self.sent = Deformer(self.character), None, None
            self.pose = None
        assert self.character is not None
        self.program = compile_rig(self.character, off)
        self.follower, self.step, self.held = PartialEvaluator(self.program), step, None
        self.off, self.clock, self.motion = off, None, None

    def quick(self, asked: AnyMessage) -> bool:
        """Whether a message takes a millisecond or two: the state is at hand, and nothing else needs to be made."""
        return asked.step == self.step and not asked.heat and isinstance(asked, LIGHT) and asked.off == self.off

    def answer(self, asked: AnyMessage) -> Frame:
        """The frame for one message.  Raises VonkelError."""
        self.look(asked.step, asked.off)
        if isinstance(asked, JointMessage):
            return self._joint(asked)
        assert self.program is not None and self.deformer is not None
        self.said = {}
        pose: Pose = POSES[type(asked)](self, asked)
        self.pose, self.over = pose, asked.over
        points = self.deformer.deform(pose, HANDED_OVER if asked.over else None)
        if asked.over and asked.wanted:
            points = points.copy()  # the deformer is asked once more
        names = self.program.control_names if len(pose.controls) else ()  # trial poses know no controls
        self.said["controls"] = len(names)
        blocks = [
            ("points", self._moved(asked, points)),
            ("joints", pose.joints),
            ("controls", pose.control_matrices(names)),
        ]
        if pose.shapes:  # in the order of the character's
            blocks.append(("strengths", np.fromiter(pose.shapes.values(), np.float32, len(pose.shapes))))
        if asked.over and asked.wanted:
            blocks.append(("wanted", self.deformer.deform(pose).copy()))
            self.sent = None  # what the page has is not what was deformed last
        if asked.heat:
            self.said["heat"] = True
            blocks.append(("heat", self._heat(points, asked.heat_of)))
        return Frame(asked.seq & 0xFFFFFFFF, self.said, tuple(blocks))

    def paint(self, given: Samples) -> Frame:
        """Take the places of a stroke: none twice, none left out.  Raises VonkelError.

        Says how many of the stroke are in now; where some in between are missing nothing is taken, and the page sends again
        from there.
        """
        if given.brush not in BRUSHES:
            raise BadParameters(f"There is no brush “{given.brush}”.", "live", "Reload the page.")
        if self.stroke is None or self.stroke.number != given.stroke or given.step != self.step:
            if self.stroke is not None and given.step == self.step:
                self.character = None  # what the stroke before left behind, when no step came of it
            self.look(given.step, self.off)
            assert self.character is not None
            self.stroke = Stroke(self.character, given.stroke, given.brush, given.how)
        stroke = self.stroke
        known = len(stroke.samples)
        told: Told = {}, ()
        if given.first <= known:
            new = given.samples[known - given.first :]
            stroke.samples += new
            stroke.done = given.done
            told = BRUSHES[given.brush](self, stroke, new)
        return Frame(0, {"stroke": stroke.number, "taken": len(stroke.samples), **told[0]}, told[1])

    def patch(self, rows: np.ndarray) -> np.ndarray:
        """(r, 3): some points in the pose that the page shows, as they are held by now."""
        assert self.deformer is not None and self.follower is not None
        self.sent = None  # the page has points that no frame told of
        if self.pose is None:
            self.pose = self.follower.evaluate({})
        return self.deformer.deform_some(self.pose, rows, HANDED_OVER if self.over else None)

    def _moved(self, asked: AnyMessage, points: np.ndarray) -> np.ndarray:
        """What of the points the page doesn't have; `ranges` says of which points: [first, count, …]."""
        assert self.deformer is not None
        rows = self.deformer.changed
        before, self.sent = self.sent, asked.seq & 0xFFFFFFFF
        if rows is None or not asked.knows or asked.knows != before:
            return points
        if self.cut is None or self.cut[0] is not rows:
            self.cut = (rows, *_runs_of(rows, len(points)))
        _, ranges, index = self.cut
        if len(index) > MOST * len(points):
            return points
        self.said["ranges"] = ranges
        moved: np.ndarray = points.take(index, 0)
        return moved

    # -- one for each kind of message ----------------------------------------------------------------------------
    def _pose(self, asked: PoseMessage) -> Pose:
        return self._solved(asked, asked.values)

    def _move(self, asked: MoveMessage) -> Pose:
        values = self._grip(asked.control, asked.values).moved_to(asked.to)
        return self._changed(asked, {asked.control: values})

    def _turn(self, asked: TurnMessage) -> Pose:
        values = self._grip(asked.control, asked.values).turned_by(asked.by)
        return self._changed(asked, {asked.control: values})

    def _reach(self, asked: ReachMessage) -> Pose:
        assert self.program is not None and self.character is not None
        found = reached(self.character, self.program, asked.values, asked.joint, np.array(asked.to))
        return self._changed(asked, {c: v for c, v in found.items() if v != asked.values.get(c)})

    def _motion(self, asked: MotionMessage) -> Pose:
        """A frame of a try from rest, or from another pose, to the one at hand and back."""
        assert self.program is not None and self.character is not None
        key = (repr(asked.start), repr(asked.values), asked.frames, asked.rate)
        if self.motion is None or self.motion[0] != key:
            rests = {c.name: {k.name: k.rest for k in c.channels} for c in self.character.controls}
            way = there_and_back(asked.start, asked.values, asked.frames, rests)
            self.motion = (key, Motion(self.program, way, float(asked.rate)))
        self.said["frame"] = min(asked.frame, asked.frames - 1)
        return self.motion[1].pose(self.said["frame"])

    def _clip(self, asked: ClipMessage) -> Pose:
        """A frame of a kept motion; what it sets is told, so that fields show it and the hand can go on from there."""
        assert self.program is not None and self.character is not None
        if self.motion is None or self.motion[0] != asked.name:
            self.motion = (asked.name, clip_motion(self.program, self.character, asked.name))
        frame = min(asked.frame, length_of(self.character, clip_named(self.character, asked.name)) - 1)
        played = self.motion[1]
        self.said |= {"clip": frame, "values": played.inputs_at(frame)}
        return played.pose(frame)

    def _heard(self, asked: HeardMessage) -> Pose:
        """What a device says; its values are told, so that fields show them."""
        assert self.program is not None and self.character is not None
        listener = self.workshop.listeners.get(self.number)
        if listener is None:
            raise BadParameters("Nothing is listened to.", "live", "Connect to a device first.")
        values = listener.values(self.character)
        self.said |= {"heard": len(listener.rows), "over": listener.over.is_set(), "values": values}
        return self._solved(asked, values)

    def _trial(self, asked: TrialMessage) -> Pose:
        assert self.character is not None
        pose = trial_pose(self.character, asked.name)
        if pose is None:
            raise BadParameters(f"There is no trial “{asked.name}”.")
        return pose

    def _joint(self, asked: JointMessage) -> Frame:
        """Nothing is stored before the hand lets go."""
        assert self.character is not None
        place = np.array(asked.to)
        places = moved_places(self.character, asked.joint, place, asked.both, asked.below, asked.inside)
        return Frame(asked.seq & 0xFFFFFFFF, {"places": {n: p.tolist() for n, p in places.items()}})

    # -- what they share -----------------------------------------------------------------------------------------
    def _grip(self, control: str, inputs: Inputs) -> Grip:
        assert self.program is not None
        if self.held is None or self.held.control != control or self.held.inputs != inputs:
            self.held = grip(self.program, inputs, control)
        return self.held

    def _changed(self, asked: AnyMessage, given: Inputs) -> Pose:
        """The pose once what is in the hand is where the hand is; the page is told the values that changed for it."""
        if given:
            self.said["values"] = given
        return self._solved(asked, {**asked.values, **given})

    def _solved(self, asked: AnyMessage, inputs: Inputs) -> Pose:
        assert self.program is not None and self.follower is not None
        if not asked.run or not self.program.timed:
            self.clock = None
            return self.follower.evaluate(inputs)
        now = time.monotonic()
        if self.clock is None or asked.run == "reset":
            self.clock, self.ticked = Clock(), now
        self.clock.step = min(max(now - self.ticked, 1 / 480), 1 / 8)  # a stall is shown as one slow frame
        self.clock.time += self.clock.step
        self.ticked = now
        self.said["time"] = self.clock.time
        return self.program.evaluate(inputs, self.clock)

    def _heat(self, points: np.ndarray, measure: str) -> np.ndarray:
        assert self.character is not None
        if self.measurer is None:
            self.measurer = Measurer(self.character)
        if measure:
            return np.asarray(np.minimum(self.measurer.field(points.astype(float), measure), 1.0))
        return self.measurer.heat(points)


def _runs_of(rows: np.ndarray, count: int) -> tuple[list[int], np.ndarray]:
    """Runs of RUN points that hold all of some: as [first, count, …], and the number of each point in them."""
    held = np.zeros(-(-count // RUN), bool)
    held[rows // RUN] = True
    edges = np.flatnonzero(np.diff(held, prepend=False, append=False)).reshape(-1, 2)
    starts, ends = edges[:, 0] * RUN, np.minimum(edges[:, 1] * RUN, count)
    index = np.flatnonzero(np.repeat(held, RUN)[:count])
    return np.stack([starts, ends - starts], 1).ravel().tolist(), index


POSES: dict[type, Callable[[Session, Any], Pose]] = {
    PoseMessage: Session._pose,
    MoveMessage: Session._move,
    TurnMessage: Session._turn,
    ReachMessage: Session._reach,
    MotionMessage: Session._motion,
    ClipMessage: Session._clip,
    HeardMessage: Session._heard,
    TrialMessage: Session._trial,
}
"""How each kind of message poses the figure."""
