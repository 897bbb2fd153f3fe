// Keys as the page draws them: curves as the core has them (motion/keys.py), rows by control, whole poses.

export const HELD = 0,
  LINEAR = 1,
  SMOOTH = 2,
  BENT = 3;
export const MANNERS = ["held", "linear", "smooth", "bent"];
const NEAR = 1e-3; // frames

/** A key of a track: its numbers by name.  @param {number[]} row */
const keyOf = ([track, at, value, manner, into, out]) => ({ track, at, value, manner, into, out });

/** The keys of one track, in their order.  @returns {ReturnType<typeof keyOf>[]} */
export const keysOf = (clip, track) => clip.keys.filter((k) => k[0] === track).map(keyOf);

/** Slopes of a smooth curve that never overshoots and eases at both ends. */
function eased(keys) {
  const out = keys.map(() => 0);
  for (let i = 1; i < keys.length - 1; i++) {
    const a = keys[i].at - keys[i - 1].at,
      b = keys[i + 1].at - keys[i].at,
      before = (keys[i].value - keys[i - 1].value) / a,
      after = (keys[i + 1].value - keys[i].value) / b;
    if (before * after <= 0) continue;
    const w = 2 * b + a,
      v = b + 2 * a;
    out[i] = (w + v) / (w / before + v / after);
  }
  return out;
}

/** The keys with the slopes that they come in and leave by, and what a loop repeats of them. */
function sloped(keys, end, loop) {
  const closes = loop && end > 0 && keys.length > 1,
    whole = closes && keys.at(-1).at - keys[0].at > end - NEAR ? keys.slice(0, -1) : keys;
  const wide = closes
    ? [{ ...whole.at(-1), at: whole.at(-1).at - end }, ...whole, { ...whole[0], at: whole[0].at + end }]
    : keys;
  const slopes = eased(wide);
  if (closes && whole.length > 1) {
    slopes[0] = slopes[whole.length];
    slopes[whole.length + 1] = slopes[1];
  }
  return wide.map((k, i) => (k.manner === BENT ? k : { ...k, into: slopes[i], out: slopes[i] }));
}

/** What a track's keys give at a frame: a function of it. */
export function curveOf(keys, end, loop) {
  const all = sloped(keys, end, loop);
  return (frame) => {
    if (!all.length) return 0;
    if (frame <= all[0].at) return all[0].value;
    if (frame >= all.at(-1).at) return all.at(-1).value;
    const i = all.findLastIndex((k) => k.at <= frame + 1e-6),
      a = all[i],
      b = all[Math.min(i + 1, all.length - 1)];
    if (a === b || a.manner === HELD) return a.value;
    const g = b.at - a.at,
      t = Math.min(Math.max((frame - a.at) / g, 0), 1),
      u = 1 - t;
    if (a.manner === LINEAR) return a.value + t * (b.value - a.value);
    const comes = b.manner === HELD ? 0 : b.manner === LINEAR ? (b.value - a.value) / g : b.into;
    return a.value * (1 + 2 * t) * u * u + b.value * (1 + 2 * u) * t * t + g * t * u * (a.out * u - comes * t);
  };
}

/** The frames at which anything has a key, in order. */
export const posesOf = (clip) => [...new Set(clip.keys.map((k) => k[1]))].sort((a, b) => a - b);

/** What stands for a track's thing among the controls of a pose. */
export const thingOf = (track) => (track.thing.startsWith("control:") ? track.thing.slice(8) : track.thing);

/**
 * A row for each thing that a motion moves: its tracks, and the frames of its keys with the tracks that have one there.
 * @param {any} clip @param {(thing: string) => boolean} shows
 */
export function rowsOf(clip, shows) {
  const rows = new Map();
  clip.tracks.forEach((t, i) => {
    const thing = thingOf(t);
    if (!shows(thing)) return;
    const row = rows.get(thing) ?? { thing, tracks: [], keys: new Map() };
    row.tracks.push(i);
    rows.set(thing, row);
  });
  const owner = new Map([...rows.values()].flatMap((r) => r.tracks.map((t) => [t, r])));
  for (const [track, at, , manner] of clip.keys) {
    const row = owner.get(track);
    if (!row) continue;
    const key = row.keys.get(at) ?? { at, tracks: [], manner };
    key.tracks.push(track);
    if (key.manner !== manner) key.manner = SMOOTH;
    row.keys.set(at, key);
  }
  return [...rows.values()].map((r) => ({ ...r, keys: [...r.keys.values()].sort((a, b) => a.at - b.at) }));
}

export const idOf = (track, at) => `${track}@${Math.round(at / NEAR)}`;

/** Where chosen keys stand while they are dragged: moved along, or spread about a frame; on whole frames if asked. */
export function carried(at, { by = 0, scale = 1, about = 0 }, snap) {
  const to = about + scale * (at - about) + by;
  return Math.max(snap ? Math.round(to) : to, 0);
}

/** Frames that a ruler marks, so that figures stand some 60 pixels apart.  @param {number} wide pixels of a frame */
export function marksOf(from, to, wide) {
  const step = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000].find((s) => s * wide >= 58) ?? 10000;
  const out = [];
  for (let f = Math.ceil(from / step) * step; f <= to; f += step) out.push(f);
  return { step, marks: out };
}
