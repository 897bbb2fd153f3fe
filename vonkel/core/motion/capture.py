"""A motion of some other skeleton: where its joints are at every frame, as a file or a suit tells it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial.transform import Rotation


@dataclass(frozen=True)
class Skeleton:
    """Joints of a capture, parents before their children; its axes at rest are the world's.

    offsets (j, 3): from the parent, in the file's own unit.  channels: per joint what its numbers in a frame are, in their order,
    as (“move” or “turn”, axis 0 to 2); turns are about axes turned so far.  ends (e, 3) with their joints: where bones end.
    stands (j, 3): places at rest, the root's at the origin, where offsets don't say them all.
    """

    names: tuple[str, ...]
    parents: tuple[int, ...]
    offsets: np.ndarray
    channels: tuple[tuple[tuple[str, int], ...], ...]
    ends: np.ndarray
    end_of: tuple[int, ...]
    stands: np.ndarray | None = None

    @property
    def width(self) -> int:
        """Numbers in a frame."""
        return sum(len(c) for c in self.channels)

    @cached_property
    def rest(self) -> np.ndarray:
        """(j, 3): places with every channel at zero, the root at the origin."""
        if self.stands is not None:
            return self.stands
        out = np.zeros((len(self.names), 3))
        for k, up in enumerate(self.parents):
            if up >= 0:
                out[k] = out[up] + self.offsets[k]
        return out

    @cached_property
    def tips(self) -> np.ndarray:
        """(e, 3): where bones end at rest."""
        return self.rest[list(self.end_of)] + self.ends if len(self.end_of) else np.zeros((0, 3))

    @property
    def size(self) -> float:
        """Its largest extent at rest, in its own unit."""
        return float(np.ptp(np.vstack([self.rest, self.tips]), axis=0).max())

    @cached_property
    def kids(self) -> list[list[int]]:
        """Per joint the joints that hang from it."""
        out: list[list[int]] = [[] for _ in self.parents]
        for k, up in enumerate(self.parents):
            if up >= 0:
                out[up].append(k)
        return out

    def posed(self, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Places (f, j, 3) and turns (f, j, 3, 3) in the world, of frames' numbers (f, width), angles in degrees.

        A place among a joint's numbers stands for its offset where it lies nearer to that than to nothing, and is laid onto it
        otherwise: files differ in that.
        """
        count, at = len(rows), 0
        places = np.zeros((count, len(self.names), 3))
        turns = np.zeros((count, len(self.names), 3, 3))
        for k, (up, channels) in enumerate(zip(self.parents, self.channels, strict=True)):
            move, order, angles = np.zeros((count, 3)), "", []
            moves = False
            for kind, axis in channels:
                if kind == "move":
                    move[:, axis], moves = rows[:, at], True
                else:
                    order += "XYZ"[axis]
                    angles.append(rows[:, at])
                at += 1
            own = (
                Rotation.from_euler(order, np.stack(angles, 1), degrees=True).as_matrix()
                if order
                else np.broadcast_to(np.eye(3), (count, 3, 3))
            )
            offset = self.offsets[k]
            stands = moves and up >= 0 and np.linalg.norm(move.mean(0) - offset) < np.linalg.norm(move.mean(0))
            local = move if stands else move + offset
            if up < 0:
                places[:, k], turns[:, k] = local, own
            else:
                places[:, k] = places[:, up] + np.einsum("fij,fj->fi", turns[:, up], local)
                turns[:, k] = turns[:, up] @ own
        return places, turns


@dataclass(frozen=True)
class Capture:
    """A skeleton's motion.  rows (f, width) as the file has them, angles in degrees; rate in frames a second; notes: what of the file was not as it says."""

    skeleton: Skeleton
    rows: np.ndarray
    rate: float
    notes: tuple[str, ...] = ()

    @cached_property
    def world(self) -> tuple[np.ndarray, np.ndarray]:
        return self.skeleton.posed(self.rows)

    @property
    def places(self) -> np.ndarray:
        """(f, j, 3) in the file's unit."""
        return self.world[0]

    @property
    def turns(self) -> np.ndarray:
        """(f, j, 3, 3)."""
        return self.world[1]

    def at_rate(self, rate: float) -> Capture:
        """The same motion with so many frames a second: places and turns go straight from one frame to the next."""
        count = max(round((len(self.rows) - 1) * rate / self.rate), 0) + 1
        at = np.linspace(0, len(self.rows) - 1, count)
        low = np.floor(at).astype(int)
        high, share = np.minimum(low + 1, len(self.rows) - 1), (at - low)[:, None]
        a, b = self.rows[low], self.rows[high]
        turn = np.array([kind == "turn" for c in self.skeleton.channels for kind, _ in c], bool)
        step = b - a
        step[:, turn] = (step[:, turn] + 180.0) % 360.0 - 180.0  # the short way round
        return Capture(self.skeleton, a + share * step, rate, self.notes)


def axes_of(words: Sequence[str]) -> tuple[tuple[str, int], ...] | None:
    """Channels from words such as `Xposition` or `zrotation`; None where one is none."""
    out = []
    for word in words:
        axis, kind = "XYZ".find(word[:1].upper()), {"position": "move", "rotation": "turn"}.get(word[1:].lower())
        if axis < 0 or kind is None:
            return None
        out.append((kind, axis))
    return tuple(out)


def capture_from(
    names: Sequence[str], parents: Sequence[int], rest: np.ndarray, places: np.ndarray, since: np.ndarray, rate: float
) -> Capture:  # fmt: skip
    """A capture of joints told by where they are: rest (j, 3), places (f, j, 3), and how far each has turned since rest (f, j, 3, 3)."""
    size = max(float(np.ptp(rest, axis=0).max()), 1e-12)
    offsets, channels, columns = np.zeros((len(names), 3)), [], []
    turn = tuple(("turn", axis) for axis in (2, 0, 1))
    for k, up in enumerate(parents):
        if up < 0:
            local, own, offset = places[:, k], since[:, k], np.zeros(3)
        else:
            back = np.swapaxes(since[:, up], 1, 2)
            local, own = np.einsum("fij,fj->fi", back, places[:, k] - places[:, up]), back @ since[:, k]
            offset = rest[k] - rest[up]
        moves = up < 0 or np.abs(local - offset).max() > 1e-5 * size
        offsets[k] = 0.0 if moves else offset
        channels.append((*((("move", a) for a in range(3)) if moves else ()), *turn))
        if moves:
            columns.append(local)
        columns.append(Rotation.from_matrix(own).as_euler("ZXY", degrees=True))
    skeleton = Skeleton(tuple(names), tuple(parents), offsets, tuple(channels), np.zeros((0, 3)), (), rest - rest[0])
    return Capture(skeleton, np.concatenate(columns, axis=1), rate)
