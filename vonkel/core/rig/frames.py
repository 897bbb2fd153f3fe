"""Rigid frames as plain tuples of 12 floats, row by row: (r00, r01, r02, x, r10, …, z).

Tuples, not arrays: for single frames they are several times faster, and a rig is thousands of single frames.
Rotations act on columns; composing `a` with `b` reads "b given in a".
"""

from __future__ import annotations

from itertools import chain
from math import acos, asin, atan2, copysign, cos, pi, sin, sqrt

import numpy as np

Frame = tuple[float, ...]
Vec = tuple[float, float, float]
Quat = tuple[float, float, float, float]

ORIGIN: Vec = (0.0, 0.0, 0.0)
IDENTITY: Frame = (1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0)


def compose(a: Frame, b: Frame) -> Frame:
    """World frame of `b`, which is given in frame `a`."""
    a0, a1, a2, a3, a4, a5, a6, a7, a8, a9, a10, a11 = a
    b0, b1, b2, b3, b4, b5, b6, b7, b8, b9, b10, b11 = b
    return (
        a0 * b0 + a1 * b4 + a2 * b8, a0 * b1 + a1 * b5 + a2 * b9,
        a0 * b2 + a1 * b6 + a2 * b10, a0 * b3 + a1 * b7 + a2 * b11 + a3,
        a4 * b0 + a5 * b4 + a6 * b8, a4 * b1 + a5 * b5 + a6 * b9,
        a4 * b2 + a5 * b6 + a6 * b10, a4 * b3 + a5 * b7 + a6 * b11 + a7,
        a8 * b0 + a9 * b4 + a10 * b8, a8 * b1 + a9 * b5 + a10 * b9,
        a8 * b2 + a9 * b6 + a10 * b10, a8 * b3 + a9 * b7 + a10 * b11 + a11,
    )  # fmt: skip


def inverse(a: Frame) -> Frame:
    """Inverse of a rigid frame."""
    r0, r1, r2, x, r4, r5, r6, y, r8, r9, r10, z = a
    return (
        r0, r4, r8, -(r0 * x + r4 * y + r8 * z),
        r1, r5, r9, -(r1 * x + r5 * y + r9 * z),
        r2, r6, r10, -(r2 * x + r6 * y + r10 * z),
    )  # fmt: skip


def place_of(a: Frame) -> Vec:
    return (a[3], a[7], a[11])


def with_place(a: Frame, p: Vec) -> Frame:
    return (a[0], a[1], a[2], p[0], a[4], a[5], a[6], p[1], a[8], a[9], a[10], p[2])


def apply(a: Frame, p: Vec) -> Vec:
    """The point p, given in frame a, in the world."""
    x, y, z = p
    return (
        a[0] * x + a[1] * y + a[2] * z + a[3],
        a[4] * x + a[5] * y + a[6] * z + a[7],
        a[8] * x + a[9] * y + a[10] * z + a[11],
    )


def rotate(a: Frame, p: Vec) -> Vec:
    """The direction p, given in frame a, in the world."""
    x, y, z = p
    return (a[0] * x + a[1] * y + a[2] * z, a[4] * x + a[5] * y + a[6] * z, a[8] * x + a[9] * y + a[10] * z)


def frame_from_quat(q: Quat, p: Vec = (0.0, 0.0, 0.0)) -> Frame:
    w, x, y, z = q
    n = w * w + x * x + y * y + z * z
    s = 2.0 / n
    wx, wy, wz, xx, xy, xz = s * w * x, s * w * y, s * w * z, s * x * x, s * x * y, s * x * z
    yy, yz, zz = s * y * y, s * y * z, s * z * z
    return (
        1 - yy - zz, xy - wz, xz + wy, p[0],
        xy + wz, 1 - xx - zz, yz - wx, p[1],
        xz - wy, yz + wx, 1 - xx - yy, p[2],
    )  # fmt: skip


def quat_from_frame(a: Frame) -> Quat:
    """Unit quaternion of the rotation part, w ≥ 0 (Shepperd 1978)."""
    m00, m01, m02, _, m10, m11, m12, _, m20, m21, m22, _ = a
    t = m00 + m11 + m22
    if t > 0:
        s = sqrt(t + 1.0) * 2
        return (0.25 * s, (m21 - m12) / s, (m02 - m20) / s, (m10 - m01) / s)
    if m00 >= m11 and m00 >= m22:
        s = sqrt(max(1.0 + m00 - m11 - m22, 1e-300)) * 2
        q = ((m21 - m12) / s, 0.25 * s, (m01 + m10) / s, (m02 + m20) / s)
    elif m11 >= m22:
        s = sqrt(max(1.0 + m11 - m00 - m22, 1e-300)) * 2
        q = ((m02 - m20) / s, (m01 + m10) / s, 0.25 * s, (m12 + m21) / s)
    else:
        s = sqrt(max(1.0 + m22 - m00 - m11, 1e-300)) * 2
        q = ((m10 - m01) / s, (m02 + m20) / s, (m12 + m21) / s, 0.25 * s)
    return q if q[0] >= 0 else (-q[0], -q[1], -q[2], -q[3])


def turn_from_angles(x: float, y: float, z: float) -> Frame:
    """Rotation by x about X, then y about Y, then z about Z, all fixed axes of the control at rest (radians)."""
    cx, sx, cy, sy, cz, sz = cos(x), sin(x), cos(y), sin(y), cos(z), sin(z)
    return (
        cy * cz, sx * sy * cz - cx * sz, cx * sy * cz + sx * sz, 0.0,
        cy * sz, sx * sy * sz + cx * cz, cx * sy * sz - sx * cz, 0.0,
        -sy, sx * cy, cx * cy, 0.0,
    )  # fmt: skip


def angles_from_turn(a: Frame) -> Vec:
    """The (x, y, z) that `turn_from_angles` takes.  At y = ±90° the split of x and z is free: x becomes 0."""
    s = -a[8]
    if abs(s) > 1 - 1e-12:
        return (0.0, copysign(pi / 2, s), atan2(-a[1], a[5]))
    return (atan2(a[9], a[10]), asin(s), atan2(a[4], a[0]))


_AXIS = {"x": 0, "y": 1, "z": 2}


def turn_in_order(order: str, x: float, y: float, z: float) -> Frame:
    """Rotation by three angles about the control's fixed axes at rest, the first letter of `order` first."""
    if order == "xyz":
        return turn_from_angles(x, y, z)
    given = {"x": x, "y": y, "z": z}
    out = IDENTITY
    for letter in order:
        out = compose(turn_from_angles(*(given[k] if k == letter else 0.0 for k in "xyz")), out)
    return out


def angles_in_order(order: str, a: Frame) -> Vec:
    """The (x, y, z) that `turn_in_order` takes.  Where the middle angle is ±90° the first angle becomes 0."""
    if order == "xyz":
        return angles_from_turn(a)

    i, j, k = (_AXIS[c] for c in order)
    e = 1.0 if order in ("yzx", "zxy") else -1.0

    def m(r: int, c: int) -> float:
        return a[4 * r + c]

    s = -e * m(k, i)
    out = [0.0, 0.0, 0.0]
    if abs(s) > 1 - 1e-12:
        out[j] = copysign(pi / 2, s)
        out[k] = atan2(-e * m(i, j), m(j, j))
    else:
        out[i], out[j], out[k] = atan2(e * m(k, j), m(k, k)), asin(s), atan2(e * m(j, i), m(i, i))
    return (out[0], out[1], out[2])


def slerp(a: Frame, b: Frame, t: float) -> Frame:
    """Rotation part turned from a to b by share t along the shorter way; the place is a's."""
    if t <= 0.0:
        return a
    if t >= 1.0:
        return with_place(b, place_of(a))
    if a[0] == b[0] and a[5] == b[5] and a[10] == b[10] and a[:11:4] == b[:11:4] and a[1] == b[1] and a[6] == b[6]:
        return a
    p, q = quat_from_frame(a), quat_from_frame(b)
    d = p[0] * q[0] + p[1] * q[1] + p[2] * q[2] + p[3] * q[3]
    if d < 0:
        q, d = (-q[0], -q[1], -q[2], -q[3]), -d
    if d > 0.999999:
        u, v = 1.0 - t, t
    else:
        angle = acos(d)
        s = sin(angle)
        u, v = sin((1 - t) * angle) / s, sin(t * angle) / s
    mixed = (u * p[0] + v * q[0], u * p[1] + v * q[1], u * p[2] + v * q[2], u * p[3] + v * q[3])
    return frame_from_quat(mixed, place_of(a))


def sub(a: Vec, b: Vec) -> Vec:
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


def add(a: Vec, b: Vec, s: float = 1.0) -> Vec:
    return (a[0] + s * b[0], a[1] + s * b[1], a[2] + s * b[2])


def dot(a: Vec, b: Vec) -> float:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


def cross(a: Vec, b: Vec) -> Vec:
    return (a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0])


def length(a: Vec) -> float:
    return sqrt(dot(a, a))


def scaled(a: Vec, s: float) -> Vec:
    return (a[0] * s, a[1] * s, a[2] * s)


def unit(a: Vec) -> Vec:
    n = length(a)
    return (a[0] / n, a[1] / n, a[2] / n) if n > 1e-12 else (0.0, 0.0, 0.0)


def swing(a: Vec, b: Vec) -> Frame:
    """The smallest rotation that takes unit direction a to unit direction b."""
    c = dot(a, b)
    if c < -0.999999999:
        other = (1.0, 0.0, 0.0) if abs(a[0]) < 0.9 else (0.0, 1.0, 0.0)
        k = unit(cross(a, other))
        return frame_from_quat((0.0, *k))
    x, y, z = cross(a, b)
    return frame_from_quat((1.0 + c, x, y, z))


def axes_frame(x: Vec, y: Vec, z: Vec) -> Frame:
    """The rotation whose columns are these unit vectors."""
    return (x[0], y[0], z[0], 0.0, x[1], y[1], z[1], 0.0, x[2], y[2], z[2], 0.0)


def frame_about(axis: Vec, angle: float) -> Frame:
    """Rotation by an angle about a unit axis (Rodrigues)."""
    x, y, z = axis
    c, s = cos(angle), sin(angle)
    k = 1.0 - c
    return (
        c + k * x * x, k * x * y - s * z, k * x * z + s * y, 0.0,
        k * x * y + s * z, c + k * y * y, k * y * z - s * x, 0.0,
        k * x * z - s * y, k * y * z + s * x, c + k * z * z, 0.0,
    )  # fmt: skip


def turn_vector(turn: Frame) -> Vec:
    """The rotation vector of a rotation, radians."""
    w, x, y, z = quat_from_frame(turn)
    angle = 2.0 * acos(max(-1.0, min(1.0, w)))
    s = sin(angle / 2)
    return (x / s * angle, y / s * angle, z / s * angle) if s > 1e-12 else ORIGIN


def turned_by_vector(v: Vec) -> Frame:
    """The rotation of a rotation vector, radians."""
    size = length(v)
    return frame_about(unit(v), size) if size > 1e-12 else IDENTITY


def twist_angle(turn: Frame, axis: Vec) -> float:
    """How far a rotation turns about a unit axis, -π to π: the twist of its swing–twist split (Dobrowolski 2015)."""
    w, x, y, z = quat_from_frame(turn)
    along = x * axis[0] + y * axis[1] + z * axis[2]
    angle = 2.0 * atan2(along, w)
    return angle - 2 * pi if angle > pi else angle + 2 * pi if angle < -pi else angle


def blend(a: Frame, b: Frame, t: float) -> Frame:
    """Between two frames: places along the line, turns along the shorter way."""
    if t <= 0.0:
        return a
    if t >= 1.0:
        return b
    p, q = place_of(a), place_of(b)
    return with_place(slerp(a, b, t), (p[0] + t * (q[0] - p[0]), p[1] + t * (q[1] - p[1]), p[2] + t * (q[2] - p[2])))


def rest_frame(place: Vec, turn: Quat) -> Frame:
    return frame_from_quat(turn, place)


def frame_of(matrix: np.ndarray) -> Frame:
    """The frame of a (3, 4) matrix."""
    return tuple(matrix.ravel().tolist())


def matrices(frames: list[Frame]) -> np.ndarray:
    """(j, 3, 4) float64 of a list of frames."""
    return np.fromiter(chain.from_iterable(frames), float, 12 * len(frames)).reshape(-1, 3, 4)
