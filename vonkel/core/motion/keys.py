"""Keys: what a motion is at some of its frames, and how it goes from one to the next.

Keys are rows (k, 6) of numbers, sorted by track and then by frame:

    track · frame · value · manner · slope it comes in by · slope it leaves by

The manner says how the value goes on from the key: HELD until the next one, LINEAR straight to it, SMOOTH with a slope that never
overshoots (Fritsch & Butland 1984, A method for constructing local monotone piecewise cubic interpolants), BENT by the key's own
slopes (value a frame).  Between slopes the way is a cubic Hermite curve.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

HELD, LINEAR, SMOOTH, BENT = range(4)
MANNERS = ("held", "linear", "smooth", "bent")
TRACK, AT, VALUE, MANNER, INTO, OUT = range(6)
NEAR = 1e-3  # frames: keys nearer than this stand at one
Number = float | np.ndarray
Chosen = Sequence[tuple[int, float]]  # keys by their track and frame


def no_keys() -> np.ndarray:
    return np.zeros((0, 6), np.float32)


def ordered(keys: np.ndarray) -> np.ndarray:
    """The keys sorted by track and frame; of several at one place the last one given stays."""
    keys = np.asarray(keys, float).reshape(-1, 6)
    order = np.lexsort((np.arange(len(keys)), keys[:, AT].round(3), keys[:, TRACK]))
    keys = keys[order]
    if len(keys) > 1:
        same = (keys[1:, TRACK] == keys[:-1, TRACK]) & (keys[1:, AT] - keys[:-1, AT] < NEAR)
        keys = keys[np.r_[~same, True]]
    return keys.astype(np.float32)


def put(keys: np.ndarray, rows: np.ndarray) -> np.ndarray:
    """The keys with others, which take the place of any that stand where they do."""
    return ordered(np.vstack([keys, np.asarray(rows, float).reshape(-1, 6)]))


def those(keys: np.ndarray, chosen: Chosen) -> np.ndarray:
    """(k,) which keys are meant by track and frame."""
    wanted = {(int(t), round(float(f) / NEAR)) for t, f in chosen}
    at = np.round(keys[:, AT].astype(float) / NEAR).astype(int)
    return np.array([(int(t), int(f)) in wanted for t, f in zip(keys[:, TRACK], at, strict=True)], bool)


def of_tracks(keys: np.ndarray, tracks: Iterable[int]) -> np.ndarray:
    """(k,) which keys belong to these tracks."""
    return np.isin(keys[:, TRACK], list(tracks))


def frames_moved(
    keys: np.ndarray, chosen: np.ndarray, by: float = 0.0, scale: float = 1.0, about: float = 0.0, snap: bool = True
) -> np.ndarray:
    """(k,) where keys stand once the chosen (k,) ones are moved along in time and spread about a frame.

    snap: they come to whole frames.  What would come to lie before the first frame stands on it.
    """
    out = keys[:, AT].astype(float)
    at = about + scale * (out[chosen] - about) + by
    out[chosen] = np.maximum(np.round(at) if snap else at, 0.0)
    return out


def moved(
    keys: np.ndarray, chosen: np.ndarray, by: float = 0.0, scale: float = 1.0, about: float = 0.0, snap: bool = True
) -> np.ndarray:
    """The keys where `frames_moved` has them; those that moved take the place of others where they land, and their slopes go with
    the spread."""
    new = keys.astype(float)
    new[:, AT] = frames_moved(keys, chosen, by, scale, about, snap)
    if scale != 0:
        new[chosen, INTO] /= scale
        new[chosen, OUT] /= scale
    return put(new[~chosen], new[chosen])


def frames_spaced(keys: np.ndarray, apart: float, first: float = 0.0) -> np.ndarray:
    """(k,) where keys stand once their whole poses are evenly spaced: the frames that have keys, in their order, `apart` frames from
    one another."""
    _, place = np.unique(keys[:, AT].round(3), return_inverse=True)
    return np.asarray(first + apart * place.reshape(-1))


def spaced(keys: np.ndarray, apart: float, first: float = 0.0) -> np.ndarray:
    """The keys where `frames_spaced` has them."""
    out = keys.astype(float)
    out[:, AT] = frames_spaced(keys, apart, first)
    return ordered(out)


def later(keys: np.ndarray, delays: dict[int, float], end: float, loop: bool, snap: bool = True) -> np.ndarray:
    """The keys of some tracks (track → frames) put off; in a loop what goes past the end comes in again at the beginning."""
    out = keys.astype(float)
    for track, by in delays.items():
        mine = out[:, TRACK] == track
        own = out[mine]
        if loop and end > 0:
            inner = own[own[:, AT] < end - NEAR]  # the last one is the first one again
            inner[:, AT] = np.mod(inner[:, AT] + by, end)
            own = inner
        else:
            own[:, AT] = np.maximum(own[:, AT] + by, 0.0)
        if snap:
            own[:, AT] = np.round(own[:, AT])
            if loop and end > 0:
                own[:, AT] = np.mod(own[:, AT], end)
        out = np.vstack([out[~mine], own])
    return closed(ordered(out), end) if loop else ordered(out)


def closed(keys: np.ndarray, end: float) -> np.ndarray:
    """The keys of a loop: every track is at its end what it is at its beginning, whichever of both has a key."""
    out = [keys.astype(float)]
    for track in np.unique(keys[:, TRACK]):
        own = keys[keys[:, TRACK] == track].astype(float)
        inner = own[own[:, AT] < end - NEAR]
        if len(inner):
            values, slopes = _at(inner, np.array([0.0]), end, True)
        else:
            values, slopes = own[:1, VALUE], own[:1, OUT]
        first = inner[inner[:, AT] < NEAR][:1].copy()
        if not len(first):
            manner = (inner if len(inner) else own)[-1, MANNER]
            first = np.array([[track, 0.0, values[0], BENT if manner == SMOOTH else manner, slopes[0], slopes[0]]])
        last = first.copy()
        last[:, AT] = end
        out = [np.vstack([out[0][out[0][:, TRACK] != track], inner[inner[:, AT] >= NEAR], first, last])]
    return ordered(out[0])


def slopes_of(at: np.ndarray, values: np.ndarray, period: float = 0.0) -> np.ndarray:
    """(k,) value a frame at keys of a smooth curve that never overshoots; in a loop of `period` frames it closes smoothly."""
    n = len(at)
    if n < 2:
        return np.zeros(n)
    if period > 0:
        inner = slice(0, n - 1) if at[-1] - at[0] > period - NEAR else slice(0, n)
        a, v = at[inner], values[inner]
        if len(a) < 2:
            return np.zeros(n)
        wide_at, wide = np.r_[a[-1] - period, a, a[0] + period], np.r_[v[-1], v, v[0]]
        own = slopes_of(wide_at, wide)[1:-1]
        return own if len(own) == n else np.r_[own, own[:1]]
    gaps = np.maximum(np.diff(at), 1e-9)
    step = np.diff(values) / gaps
    out = np.zeros(n)
    a, b = step[:-1], step[1:]
    both = a * b > 0
    w, v = 2 * gaps[1:] + gaps[:-1], gaps[1:] + 2 * gaps[:-1]
    safe_a, safe_b = np.where(both, a, 1.0), np.where(both, b, 1.0)
    out[1:-1] = np.where(both, (w + v) / (w / safe_a + v / safe_b), 0.0)
    return out  # it eases out of the first key and into the last


def _at(own: np.ndarray, frames: np.ndarray, end: float, loop: bool) -> tuple[np.ndarray, np.ndarray]:
    """Values and slopes (f,) of one track's keys at frames."""
    at, values, manners = own[:, AT], own[:, VALUE], own[:, MANNER].astype(int)
    smooth = slopes_of(at, values, end if loop else 0.0)
    into, out = np.where(manners == BENT, own[:, INTO], smooth), np.where(manners == BENT, own[:, OUT], smooth)
    if loop and end > 0:  # what comes before the first key is what comes after the last
        at = np.r_[at[-1] - end, at, at[0] + end]
        values, manners = np.r_[values[-1], values, values[0]], np.r_[manners[-1], manners, manners[0]]
        into, out = np.r_[into[-1], into, into[0]], np.r_[out[-1], out, out[0]]
    if len(at) == 1:
        return np.full(len(frames), values[0]), np.zeros(len(frames))
    gaps = np.maximum(np.diff(at), 1e-9)
    straight = np.diff(values) / gaps
    ahead = manners[1:]
    leaves = out[:-1].copy()
    comes = np.where(ahead == HELD, 0.0, np.where(ahead == LINEAR, straight, into[1:]))
    k = np.clip(np.searchsorted(at, frames + 1e-6, side="right") - 1, 0, len(at) - 2)
    t = np.clip((frames - at[k]) / gaps[k], 0.0, 1.0)
    u, g, how = 1 - t, gaps[k], manners[:-1][k]
    a, b, ma, mb = values[k], values[k + 1], leaves[k], comes[k]
    curve = _hermite(a, b, ma, mb, g, t)
    slope = 6 * t * u * (b - a) / g + ma * u * (1 - 3 * t) + mb * t * (3 * t - 2)
    held = np.where(t >= 1.0, b, a)
    line = a + t * (b - a)
    out_values = np.where(how == HELD, held, np.where(how == LINEAR, line, curve))
    out_slopes = np.where(how == HELD, 0.0, np.where(how == LINEAR, straight[k], slope))
    outside = (frames < at[0]) | (frames > at[-1])
    return out_values, np.where(outside, 0.0, out_slopes)


def _hermite(a: Number, b: Number, leaves: Number, comes: Number, gap: Number, t: np.ndarray) -> np.ndarray:
    """The cubic from a to b over `gap` frames with these slopes at its ends, at shares `t` of the way."""
    u = 1 - t
    return np.asarray(a * (1 + 2 * t) * u * u + b * (1 + 2 * u) * t * t + gap * t * u * (leaves * u - comes * t))


def values_of(keys: np.ndarray, tracks: int, frames: np.ndarray, end: float, loop: bool) -> np.ndarray:
    """(f, t): what keys give at frames, which may lie between whole ones.  A track without keys stays at zero."""
    out = np.zeros((len(frames), tracks))
    keys = keys.astype(float)
    starts = np.searchsorted(keys[:, TRACK], np.arange(tracks + 1))
    for track in range(tracks):
        own = keys[starts[track] : starts[track + 1]]
        if len(own):
            out[:, track] = _at(own, np.asarray(frames, float), end, loop)[0]
    return out


def between(keys: np.ndarray, tracks: int, frame: float, share: float, loop: bool) -> np.ndarray:
    """The keys with a whole pose put between its two neighbours: `share` of the way from the one before to the one after.

    Every track that has a key before and one after gets one; the whole pose keeps the manner of the one before it.
    """
    rows = []
    for track in range(tracks):
        own = keys[keys[:, TRACK] == track].astype(float)
        before, after = own[own[:, AT] < frame - NEAR], own[own[:, AT] > frame + NEAR]
        if loop and len(own) and not len(after):
            after = own[:1]
        if not len(before) or not len(after):
            continue
        a, b = before[-1], after[0]
        manner = a[MANNER] if a[MANNER] != BENT else SMOOTH
        rows.append([track, frame, a[VALUE] + share * (b[VALUE] - a[VALUE]), manner, 0.0, 0.0])
    return put(keys, np.array(rows)) if rows else keys


def thinned(values: np.ndarray, tolerance: np.ndarray) -> np.ndarray:
    """Keys that stay within `tolerance` (t,) of values (f, t) at every frame; a track that never moves gets one.

    A stretch is one curve with the values' own slopes at both ends where that is near enough, and is parted where it is farthest off
    otherwise (as Douglas & Peucker 1973 part lines).
    """
    rows: list[tuple[float, ...]] = []
    slopes = np.gradient(values.astype(float), axis=0) if len(values) > 1 else np.zeros(values.shape)
    for track in range(values.shape[1]):
        v, m, tol = values[:, track].astype(float), slopes[:, track], float(tolerance[track])
        if len(v) == 1 or np.ptp(v) <= tol:
            rows.append((track, 0.0, float(v[0] if len(v) == 1 else 0.5 * (v.min() + v.max())), LINEAR, 0.0, 0.0))
            continue
        keep, todo = {0, len(v) - 1}, [(0, len(v) - 1)]
        while todo:
            a, b = todo.pop()
            if b - a < 2:
                continue
            t = (np.arange(a, b + 1) - a) / (b - a)
            off = np.abs(_hermite(v[a], v[b], m[a], m[b], float(b - a), t) - v[a : b + 1])
            worst = int(off.argmax())
            if off[worst] > tol:
                keep.add(a + worst)
                todo += [(a, a + worst), (a + worst, b)]
        rows += [(track, float(f), float(v[f]), BENT, float(m[f]), float(m[f])) for f in sorted(keep)]
    return ordered(np.array(rows))


def whole_poses(keys: np.ndarray) -> np.ndarray:
    """(p,) the frames at which anything has a key, in order."""
    return np.unique(keys[:, AT].round(3))


def only_tracks(keys: np.ndarray, keep: Sequence[bool]) -> np.ndarray:
    """The keys of the tracks that are kept, told by these tracks' new numbers."""
    number = np.cumsum(keep) - 1
    own: np.ndarray = keys[np.asarray(keep, bool)[keys[:, TRACK].astype(int)]].copy()
    own[:, TRACK] = number[own[:, TRACK].astype(int)]
    return own


def keys_fault(keys: np.ndarray, tracks: int) -> str:
    """What is wrong with keys of so many tracks, as a phrase; nothing when they are in order."""
    track, at, manner = keys[:, TRACK], keys[:, AT], keys[:, MANNER]
    if len(keys) and (track.min() < 0 or track.max() >= tracks or (track % 1).any()):
        return "a key is of a track that isn't there"
    if not np.isin(manner, range(len(MANNERS))).all() or (at < 0).any():
        return "a key goes on in no known manner, or comes before the first frame"
    same = track[1:] == track[:-1]
    if (np.diff(track) < 0).any() or (np.diff(at)[same] <= 0).any():
        return "keys are out of order"
    return ""
