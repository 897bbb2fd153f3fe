"""From a pose to points.  What depends on the character alone is prepared once."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..character import Character
from ..geometry.halves import in_halves
from ..geometry.rotations import matrix_from_quaternion
from ..rig.program import Pose
from . import kernels
from .between import Betweens, handed_fresh
from .correctives import Correctives
from .direct import Direct
from .shaping import Shapes
from .smoothing import Smoother

HANDED = "handed"
"""How a skin deforms as it goes out: linear, by the weights made for that where they are of the live skin, or by its own."""


def rest_inverses(character: Character) -> np.ndarray:
    """(j, 4, 4): inverse of each joint's world frame at rest."""
    m = np.tile(np.eye(4), (len(character.joints), 1, 1))
    if character.joints:
        m[:, :3, :3] = matrix_from_quaternion(np.array([j.turn for j in character.joints]))
        m[:, :3, 3] = [j.place for j in character.joints]
    return np.linalg.inv(m)


def mix_of(character: Character) -> np.ndarray:
    """(n,) float32: the dual method's share of each point; all of it where nothing is said."""
    mix = character.arrays.get("skin/mix")
    return np.ones(len(character.points), np.float32) if mix is None else mix


@dataclass(frozen=True)
class _Some:
    """The points that some joints hold, gathered: a hand's drag need not deform the other leg again."""

    rows: np.ndarray
    joints: np.ndarray
    weights: np.ndarray
    out: np.ndarray


@dataclass(frozen=True)
class _Last:
    """What was deformed last: how, by which matrices, and (s,) how strong each shape was."""

    method: str
    matrices: np.ndarray
    on: np.ndarray


class _Handed:
    """The weights that go out, and what moves by them."""

    def __init__(self, character: Character) -> None:
        skin = character.skin
        assert skin is not None and skin.handed is not None
        self.between = Betweens(character, skin.handed.between)
        self.correctives = Correctives(character, skin.handed.correctives)
        self._put_right = np.empty((len(character.points), 3), np.float32)
        first = len(character.joints)
        order = np.array(
            [*(character.joint_index[n] for n in skin.joints), *range(first, first + len(skin.handed.between))],
            np.uint16,
        )
        weights = character.arrays["handed/weights"]
        heavy = np.argsort(-weights, axis=1, kind="stable")
        self.joints = np.ascontiguousarray(np.take_along_axis(order[character.arrays["handed/joints"]], heavy, 1))
        self.weights = np.ascontiguousarray(np.take_along_axis(weights, heavy, 1))

    def put_right(self, points: np.ndarray, pose: Pose, rest_inverse: np.ndarray) -> np.ndarray:
        """(n, 3): rest points (n, 3) with the targets on that this pose asks for."""
        if not self.correctives.list:
            return points
        self._put_right[:] = points
        self.correctives.add(self.correctives.strengths(pose.rigid_matrices(rest_inverse)), self._put_right)
        return self._put_right

    def matrices(self, pose: Pose, rest_inverse: np.ndarray) -> np.ndarray:
        """(j + h, 3, 4): from rest to the pose, of all joints that go out."""
        own = pose.skin_matrices(rest_inverse)
        return np.concatenate([own, self.between.at(pose, rest_inverse)]) if len(self.between.a) else own


class Deformer:
    """Deforms one character.  `deform(pose)` gives (n, 3) float32 in world metres.

    The array that `deform` returns is used again by the next call; copy it to keep it.
    """

    def __init__(self, character: Character) -> None:
        self.character = character
        self.rest = np.ascontiguousarray(character.points, np.float32)
        self.rest_inverse = rest_inverses(character)
        self._rest_frames = np.linalg.inv(self.rest_inverse)[:, :3]
        self.method = character.skin.method if character.skin else "linear"
        self.shapes: dict[str, tuple[np.ndarray, np.ndarray]] = {
            s.name: (
                np.ascontiguousarray(character.arrays[f"shape/{s.name}/points"]),
                np.ascontiguousarray(character.arrays[f"shape/{s.name}/moves"], np.float32),
            )
            for s in character.shapes
        }
        self._all_shapes = Shapes(self.shapes, len(self.rest))
        self._loose: dict[str, np.ndarray] = {}  # shape → (n, 3) moves, of those that are being sculpted
        self._shaped = self.rest.copy()
        self._out = np.empty_like(self.rest)
        self._scratch = np.empty_like(self.rest)
        self._live = np.empty_like(self.rest)  # smoothed or mixed points
        self.mix: np.ndarray | None = None
        self.smoother: Smoother | None = None
        self.direct: Direct | None = None
        self._last: _Last | None = None  # what `_out` is of
        self._somes: OrderedDict[bytes, _Some | None] = OrderedDict()
        self.changed: np.ndarray | None = None  # the points that the last call moved; None: any of them
        self.joints: np.ndarray | None = None
        if character.skin is not None and character.joints:
            order = np.array([character.joint_index[n] for n in character.skin.joints], np.uint16)
            joints = order[character.arrays["skin/joints"]]
            weights = np.ascontiguousarray(character.arrays["skin/weights"], np.float32)
            heavy = np.argsort(-weights, axis=1, kind="stable")  # heaviest first, as the loops expect
            self.joints = np.ascontiguousarray(np.take_along_axis(joints, heavy, 1))
            self.weights = np.ascontiguousarray(np.take_along_axis(weights, heavy, 1))
        if self.joints is not None:
            self.mix = mix_of(character)[:, None].copy() if self.method == "mixed" else None
            rounds = character.skin.smoothing if character.skin else 0
            if rounds and character.skin and character.skin.smoother == "beforehand":
                self.direct = Direct(character, rounds, self.joints, self.weights)
                self._hard = np.flatnonzero(~self.direct.soft)
            elif rounds:
                self.smoother = Smoother(character, rounds)
        self.handed = _Handed(character) if handed_fresh(character) else None

    def hold(self, rows: np.ndarray, joints: np.ndarray, weights: np.ndarray) -> None:
        """Let points `rows` (r,) be held otherwise from now on: joints (r, k) by their numbers in the character, weights (r, k)."""
        assert self.joints is not None
        heavy = np.argsort(-weights, axis=1, kind="stable")
        self.joints[rows] = np.take_along_axis(joints, heavy, 1)
        self.weights[rows] = np.take_along_axis(weights, heavy, 1)
        if self.direct is not None:
            self.direct.hold(rows)
        self.handed = None  # it was made for what they were held by
        self._last, self.changed = None, None
        self._somes.clear()

    def blend(self, rows: np.ndarray, mix: np.ndarray) -> None:
        """Let points `rows` (r,) deform by so much of the dual method, of all mix (n,), from now on."""
        if self.mix is None:
            self.mix, self.method = np.ones((len(self.rest), 1), np.float32), "mixed"
        self.mix[rows, 0] = mix[rows]
        self._last, self.changed = None, None

    def hold_shape(self, name: str, rows: np.ndarray, moves: np.ndarray) -> None:
        """Let a shape move points `rows` (r,) by moves (r, 3) from now on."""
        if name not in self._loose:
            dense = np.zeros_like(self.rest)
            index, before = self.shapes[name]
            dense[index] = before
            self._loose[name] = dense
        self._loose[name][rows] = moves
        self._last, self.changed = None, None

    def turns_of_moves(self, pose: Pose, over: bool = False) -> np.ndarray:
        """(n, 3, 3) float64: what a move of each point at rest becomes at `pose`, without the smoothing after skinning.

        over: as it goes out.
        """
        out = np.empty((len(self.rest), 3, 3))
        out[:] = np.eye(3)
        if self.joints is None:
            return out
        long = np.float32(max(float(np.ptp(self.rest, axis=0).max(initial=0.0)), 1e-6))
        at = self.plainly(pose, self.rest, over)
        for k in range(3):
            step = np.zeros(3, np.float32)
            step[k] = long
            out[:, :, k] = (self.plainly(pose, self.rest + step, over).astype(float) - at) / float(long)
        return out

    def plainly(self, pose: Pose, points: np.ndarray, over: bool = False) -> np.ndarray:
        """(n, 3) new: any points held as the skin is, or as it goes out, at `pose`."""
        if over and self.handed is not None:
            out = np.empty_like(points)
            points = self.handed.put_right(points, pose, self.rest_inverse)
            matrices = self.handed.matrices(pose, self.rest_inverse)
            self._blend("linear", matrices, points, self.handed.joints, self.handed.weights, out)
            return out
        if over:
            return self._by("linear", pose, points)
        if self.direct is not None:
            return self._directly(pose, points, np.empty_like(points))
        return self._as_held(pose, points)

    def _as_held(self, pose: Pose, points: np.ndarray, rows: np.ndarray | slice = slice(None)) -> np.ndarray:
        """(r, 3) new: points held as points `rows` of the skin are, as the skin says, without what comes after the blend."""
        if self.method == "mixed":
            assert self.mix is not None
            a, b = (self._by(m, pose, points, rows) for m in ("linear", "dual"))
            return np.asarray(a + self.mix[rows] * (b - a))
        return self._by(self.method, pose, points, rows)

    def _directly(self, pose: Pose, points: np.ndarray, out: np.ndarray, rows: np.ndarray | None = None) -> np.ndarray:
        """(r, 3), in `out`: rest points moved by the moments of their neighbourhoods; parts that aren't skin as they are held.

        points (r, 3): of the whole mesh, or of points `rows` (r,) of it.
        """
        assert self.direct is not None and self.joints is not None
        hard = self._hard if rows is None else np.flatnonzero(~self.direct.soft[rows])
        if len(hard):
            out[hard] = self._as_held(pose, points[hard], hard if rows is None else rows[hard])
        if pose.scaled:
            scaled, some = np.empty_like(points), slice(None) if rows is None else rows
            self._blend("linear", self._scales(pose), points, self.joints[some], self.weights[some], scaled)
            points = scaled
        self.direct(pose.rigid_matrices(self.rest_inverse), points, out, self._dual_share(rows), rows)
        return out

    def _by(self, method: str, pose: Pose, points: np.ndarray, rows: np.ndarray | slice = slice(None)) -> np.ndarray:
        """(r, 3) new: points held as points `rows` of the skin are, by "linear" or "dual"."""
        assert self.joints is not None
        joints, weights = self.joints[rows], self.weights[rows]
        out = np.empty_like(points)
        if method == "dual" and pose.scaled:
            scaled = np.empty_like(points)
            self._blend("linear", self._scales(pose), points, joints, weights, scaled)
            points = scaled
        inverse = self.rest_inverse
        matrices = pose.rigid_matrices(inverse) if method == "dual" else pose.skin_matrices(inverse)
        self._blend(method, matrices, points, joints, weights, out)
        return out

    def _dual_share(self, rows: np.ndarray | None) -> np.ndarray:
        """(r,) float32: how much of the dual method there is in the blend at points `rows` (r,), or at all."""
        if self.mix is not None:
            share = self.mix[:, 0] if rows is None else self.mix[rows, 0]
            return np.ascontiguousarray(share)
        return np.full(len(self.rest) if rows is None else len(rows), float(self.method == "dual"), np.float32)

    def deform_some(self, pose: Pose, rows: np.ndarray, method: str | None = None) -> np.ndarray:
        """(r, 3) float32: some of the points at `pose`, for a patch under a brush."""
        points = np.ascontiguousarray(self.shaped(pose.shapes)[rows])
        if self.joints is None:
            return points
        if method == HANDED and self.handed is not None:
            return np.asarray(self.deform(pose, HANDED)[rows])  # its targets are of the whole
        if method is None and self.smoother is not None:
            return np.asarray(self._as_it_says(pose)[rows])  # what is smoothed hangs together: all of it is deformed
        if method is None and self.direct is not None:
            return self._directly(pose, points, np.empty_like(points), rows)
        if method is None:
            return self._as_held(pose, points, rows)
        return self._by("linear" if method == HANDED else method, pose, points, rows)

    def shaped(self, strengths: dict[str, float]) -> np.ndarray:
        """(n, 3) float32: rest points with the morph targets added."""
        loose = self._loose
        shaped = self._put_on(self._all_shapes.on(strengths, loose))
        if not loose:
            return shaped
        out = shaped.copy()
        for name, moves in loose.items():
            out += np.float32(strengths.get(name, 0.0)) * moves
        return out

    def _put_on(self, on: np.ndarray) -> np.ndarray:
        """(n, 3) float32: rest points with shapes on by strengths (s,)."""
        if not on.any():
            return self.rest
        self._all_shapes.put(self.rest, on, self._shaped)
        return self._shaped

    def deform(self, pose: Pose, method: str | None = None) -> np.ndarray:
        """Points at `pose`: as the skin says, smoothed if it is, or plainly by "linear", "dual", or HANDED."""
        more = self.mix is not None or self.smoother is not None or self.direct is not None
        if method is None and self.joints is not None and more:
            return self._as_it_says(pose)
        self.changed = None
        method = method or self.method
        if self._follows(pose, method):
            return self._on_from_last(pose, "linear" if method == HANDED else method)
        points = self.shaped(pose.shapes)
        if self.joints is None:
            return points
        if method == HANDED and self.handed is not None:
            self._last = None
            matrices = self.handed.matrices(pose, self.rest_inverse)
            points = self.handed.put_right(points, pose, self.rest_inverse)
            self._blend("linear", matrices, points, self.handed.joints, self.handed.weights, self._out)
            return self._out
        method = "linear" if method == HANDED else method
        self._last = None
        if method == "dual":
            if pose.scaled:  # scale cannot be blended as a rotation: it goes first, linearly, at rest
                points = self._scaled_at_rest(points, pose)
            matrices = pose.rigid_matrices(self.rest_inverse)
        else:
            matrices = pose.skin_matrices(self.rest_inverse)
        self._blend(method, matrices, points, self.joints, self.weights, self._out)
        return self._out

    def _follows(self, pose: Pose, method: str) -> bool:
        """Whether what a pose moves can be told from what the one before it did."""
        if self.joints is None or pose.scaled or self._loose:
            return False
        return method != HANDED or self.handed is None

    def _on_from_last(self, pose: Pose, method: str) -> np.ndarray:
        """As `deform`, of those points alone that moved since the last call."""
        on = self._all_shapes.on(pose.shapes, {})
        now = _Last(method, pose.rigid_matrices(self.rest_inverse), on)
        some, points = self._since_last(now), self._put_on(on)
        if some is not None:
            self._blend(method, now.matrices, points.take(some.rows, 0), some.joints, some.weights, some.out)
            kernels.put_at(some.rows, some.out, self._out)
            self.changed = some.rows
        else:
            self._blend(method, now.matrices, points, self.joints, self.weights, self._out)
        self._last = now
        return self._out

    def _as_it_says(self, pose: Pose) -> np.ndarray:
        """Mixed of both methods where the skin says so, then smoothed."""
        if self.direct is not None:
            self.changed = None
            return self._directly(pose, self.shaped(pose.shapes), self._live)
        if self.mix is not None:
            self._live[:] = self.deform(pose, "linear")
            dual = self.deform(pose, "dual")
            self._live += self.mix * (dual - self._live)
        else:
            self._live[:] = self.deform(pose, self.method)
        if self.smoother is not None:
            self.smoother(self._live, self._live)
        self.changed = None
        return self._live

    def _since_last(self, now: _Last) -> _Some | None:
        """What has to be deformed since the last call; None: everything."""
        last = self._last
        if last is None or last.method != now.method:
            return None
        assert self.joints is not None
        moved = (now.matrices != last.matrices).reshape(len(now.matrices), -1).any(1)
        shapes = now.on != last.on
        if 2 * np.count_nonzero(shapes) > len(shapes):  # while a face plays, some stand still by chance in each frame
            shapes[:] = True
        key = moved.tobytes() + shapes.tobytes()
        if key not in self._somes:
            touched = (moved[self.joints] & (self.weights > 0)).any(1)
            for k in np.flatnonzero(shapes):
                touched[self.shapes[self._all_shapes.names[int(k)]][0]] = True
            rows = np.flatnonzero(touched)
            self._somes[key] = None
            if len(rows) < 0.6 * len(self.rest):
                held = self.joints[rows], self.weights[rows]
                self._somes[key] = _Some(rows, *held, np.empty((len(rows), 3), np.float32))
            while len(self._somes) > 16:
                self._somes.popitem(last=False)
        return self._somes[key]

    def _scaled_at_rest(self, points: np.ndarray, pose: Pose) -> np.ndarray:
        self._blend("linear", self._scales(pose), points, self.joints, self.weights, self._scratch)
        return self._scratch

    def _scales(self, pose: Pose) -> np.ndarray:
        """(j, 3, 4): each joint's own scale, at rest."""
        scaled = self._rest_frames.copy()
        scaled[:, :, :3] *= pose.scales[:, None, :]
        return np.asarray(scaled @ self.rest_inverse)

    @staticmethod
    def _blend(
        method: str, matrices: np.ndarray, points: np.ndarray, joints: np.ndarray | None, weights: np.ndarray,
        out: np.ndarray,
    ) -> None:  # fmt: skip
        assert joints is not None
        run: Callable[..., None]
        if method == "dual":
            q = np.empty((len(matrices), 8), np.float32)
            kernels.dual_quaternions(np.ascontiguousarray(matrices), q)
            transforms, run = q, kernels.dual
        else:
            transforms = np.ascontiguousarray(matrices.reshape(-1, 12), np.float32)
            run = kernels.linear4 if joints.shape[1] == 4 else kernels.linear_any
        in_halves(lambda p, j, w, o: run(p, j, w, transforms, o), points, joints, weights, out=out)
