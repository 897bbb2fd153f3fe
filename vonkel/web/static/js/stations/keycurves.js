// The curve view: the tracks of what is chosen over the frames; keys dragged in time and value, slopes by their own
// handles.
import { pulled } from "../widgets/drag.js";
import { h } from "../widgets/html.js";
import { BENT, carried, curveOf, idOf, keysOf, MANNERS, marksOf, thingOf } from "../widgets/keys.js";
import { measureOf, plainName } from "../words.js";
import { boxKeys, chosenKeys, keyStep, measured, ruler, shows, stepFrames, wheeled } from "./keystrip.js";

const HIGH = 172,
  EDGE = 10,
  HANDLE = 34; // pixels that a slope's handle is long
const INKS = ["#1b7471", "#7a3b76", "#8a5e12", "#3f6184", "#9a4a2f", "#5d6a73"];
const MOST = 24; // curves drawn at once
const ALL = "all"; // every kind of channel on one sheet

/** The channel that a track moves. */
function channelOf(b, track) {
  const control = b.state.controls.find((c) => c.name === thingOf(track));
  const own = control?.channels.find((k) => k.name === track.channel);
  const world = { kind: track.channel.includes("turn") ? "turn" : "move" };
  return own ?? (track.channel.startsWith("world ") ? world : { kind: "value" });
}

/**
 * The tracks that may be drawn: of what is chosen, or of what the strip shows; of one kind, or of all kinds together,
 * each kind by a scale of its own.  `tracks` are those that are, `whole`: whether they are all of one thing.
 */
export function drawnTracks(b, clip) {
  const wanted = shows(b);
  const all = clip.tracks.map((t, i) => ({ i, track: t, channel: channelOf(b, t), thing: thingOf(t) }));
  const own = all.filter((t) => t.thing === b.plate.selected.control),
    some = own.length ? own : all.filter((t) => wanted(t.thing)),
    kinds = [...new Set(some.map((t) => t.channel.kind))],
    known = kinds.includes(b.ui.curveKind) || (b.ui.curveKind === ALL && kinds.length > 1),
    kind = known ? b.ui.curveKind : (kinds[0] ?? "value");
  const listed = some.filter((t) => kind === ALL || t.channel.kind === kind).slice(0, 2 * MOST);
  const tracks = listed.filter((t) => !b.ui.curvesOff.has(t.i)).slice(0, MOST);
  return { kind, kinds, listed, tracks, whole: own.length > 0 };
}

/**
 * From a track's values to pixels, by its kind: all of what is drawn of that kind, or the share of it that was zoomed
 * to.
 * @returns {(kind: string) => Scale}
 */
function upright(b, tracks, clip) {
  const known = new Map(),
    [from, to] = b.ui.curveRange ?? [0, 1];
  return (kind) => {
    if (!known.has(kind)) {
      const own = tracks.filter((t) => t.channel.kind === kind).flatMap((t) => keysOf(clip, t.i).map((k) => k.value)),
        floor = Math.min(0, ...own),
        span = Math.max(Math.max(0, ...own) - floor, 1e-3),
        of = (HIGH - 2 * EDGE) / (span * (to - from)),
        high = floor + to * span;
      known.set(kind, { of, y: (v) => EDGE + (high - v) * of, value: (y) => high - (y - EDGE) / of });
    }
    return known.get(kind);
  };
}

/** @typedef {{ of: number, y: (value: number) => number, value: (y: number) => number }} Scale */

/** The keys of a track with those in the hand where the hand has them. */
function handled(b, clip, t, v) {
  const drag = b.ui.keyDrag;
  return keysOf(clip, t.i)
    .map((k) => {
      const id = idOf(k.track, k.at),
        on = b.ui.keysChosen.has(id);
      if (!drag || !on) return { ...k, id, on, was: k.at };
      if (drag.slope) return { ...k, id, on, was: k.at, ...(drag.id === id ? drag.slope : {}) };
      return {
        ...k,
        id,
        on,
        was: k.at,
        at: carried(k.at, drag, b.ui.keysSnap),
        value: k.value + (drag.rise ?? 0) / v(t.channel.kind).of,
      };
    })
    .sort((p, q) => p.at - q.at);
}

const row = (k) => ({
  track: k.track,
  frame: k.at,
  value: k.value,
  manner: MANNERS[k.manner],
  into: k.into,
  out: k.out,
});

/** Chosen keys go along with the hand, in time and in value. */
function dragKey(b, clip, tracks, m, v, key) {
  return (e) => {
    if (e.shiftKey) {
      const now = new Set(b.ui.keysChosen);
      if (!now.delete(key.id)) now.add(key.id);
      b.ui.keysChosen = now;
    } else if (!b.ui.keysChosen.has(key.id)) b.ui.keysChosen = new Set([key.id]);
    pulled(e, (dx, dy, done, went) => {
      const by = b.ui.keysSnap ? Math.round(dx / m.of) : dx / m.of;
      if (!done) b.ui.keyDrag = { by, rise: -dy };
      else if (went) {
        const moved = tracks.flatMap((t) => handled(b, clip, t, v).filter((k) => k.on));
        keyStep(
          b,
          "keys.set",
          { gone: chosenKeys(b), keys: moved.map(row) },
          moved.map((k) => idOf(k.track, k.at)),
        );
      } else b.ui.keyDrag = null;
    });
  };
}

/** The two ends of a key's slope; with Alt each goes its own way. */
function slopes(b, m, v, k) {
  if (k.manner !== BENT || !k.on) return null;
  const end = (side) => {
    const slope = side < 0 ? k.into : k.out,
      dx = 1 * m.of,
      dy = -slope * v.of,
      far = HANDLE / Math.hypot(dx, dy);
    return [m.x(k.at) + side * dx * far, v.y(k.value) + side * dy * far];
  };
  const drag = (side) => (e) => {
    const alone = e.altKey,
      [x0, y0] = end(side);
    pulled(e, (dx, dy, done) => {
      const x = (x0 + dx - m.x(k.at)) * side,
        y = (y0 + dy - v.y(k.value)) * side;
      const slope = -y / v.of / (Math.max(x, 2) / m.of);
      const told = alone ? { [side < 0 ? "into" : "out"]: slope } : { into: slope, out: slope };
      b.ui.keyDrag = { id: k.id, slope: told };
      if (done) keyStep(b, "keys.set", { gone: [], keys: [row({ ...k, ...told })] }, [k.id]);
    });
  };
  return [-1, 1].map((side) => {
    const [x, y] = end(side);
    return [
      h("line", { key: `l${side}`, x1: m.x(k.at), y1: v.y(k.value), x2: x, y2: y, class: "slope" }),
      h("rect", {
        key: `s${side}`,
        x: x - 4,
        y: y - 4,
        width: 8,
        height: 8,
        class: "slope-end",
        onpointerdown: drag(side),
        "data-slope": side < 0 ? "in" : "out",
      }),
    ];
  });
}

/** The keys of curves that lie in a box. */
const inCurves = (clip, tracks, m, v) => (left, right, top, foot) =>
  tracks
    .flatMap((t) => keysOf(clip, t.i).map((k) => ({ k, y: v(t.channel.kind).y(k.value) })))
    .filter(({ k, y }) => m.x(k.at) >= left && m.x(k.at) <= right && y >= top && y <= foot)
    .map(({ k }) => idOf(k.track, k.at));

function line(b, clip, t, i, m, v) {
  const keys = handled(b, clip, t, v),
    { y } = v(t.channel.kind),
    curve = curveOf(keys, clip.end, clip.loop);
  const step = Math.max((m.to - m.from) / 420, 0.02),
    points = [];
  for (let f = Math.max(m.from, 0); f <= Math.min(m.to, clip.frames - 1) + 1e-6; f += step)
    points.push(`${m.x(f).toFixed(1)},${y(curve(f)).toFixed(1)}`);
  return h("polyline", { key: t.i, points: points.join(" "), class: "key-curve", stroke: INKS[i % INKS.length] });
}

/** Which tracks there are, each with its ink; a click takes one off the sheet and puts it back. */
function legend(b, clip) {
  const { tracks, kind, kinds, listed, whole } = drawnTracks(b, clip),
    inks = new Map(tracks.map((t, i) => [t.i, INKS[i % INKS.length]]));
  const words = { turn: "turns", move: "moves", size: "sizes", value: "values", [ALL]: "all" };
  return h(
    "div",
    { class: "names" },
    kinds.length > 1
      ? h(
          "div",
          { class: "curve-kinds" },
          [...kinds, ALL].map((k) =>
            h(
              "button",
              {
                key: k,
                type: "button",
                class: `btn btn-sm btn-plain${k === kind ? " active" : ""}`,
                "aria-pressed": String(k === kind),
                onclick: () => {
                  b.ui.curveKind = k;
                  b.ui.curveRange = null;
                },
              },
              words[k],
            ),
          ),
        )
      : null,
    listed.map((t) =>
      h(
        "button",
        {
          key: t.i,
          type: "button",
          class: "thread-name",
          "aria-pressed": String(!b.ui.curvesOff.has(t.i)),
          title: `${t.thing} ${t.track.channel}`,
          onclick: () => b.ui.put("curvesOff", t.i, !b.ui.curvesOff.has(t.i)),
        },
        h("b", { style: `background:${inks.get(t.i) ?? "transparent"}` }),
        whole ? t.track.channel || plainName(t.thing) : `${plainName(t.thing)} ${t.track.channel}`,
      ),
    ),
  );
}

/** Wheel with Alt: higher and lower about the pointer; otherwise as the strip has it. */
function zoomed(b, clip, wide) {
  const along = wheeled(b, clip, wide);
  return (e) => {
    if (!e.altKey) return along(e);
    e.preventDefault();
    const [from, to] = b.ui.curveRange ?? [0, 1],
      down = (e.clientY - e.currentTarget.getBoundingClientRect().top - EDGE) / (HIGH - 2 * EDGE),
      at = to - down * (to - from),
      by = Math.exp(e.deltaY * 0.0015);
    b.ui.curveRange = [at + (from - at) * by, at + (to - at) * by];
    return null;
  };
}

export function keyCurves(b, clip) {
  const wide = b.ui.keyWide,
    m = measured(b, clip, wide),
    { tracks } = drawnTracks(b, clip),
    v = upright(b, tracks, clip),
    scales = [...new Set(tracks.map((t) => t.channel.kind))],
    box = b.ui.keyBox;
  const { marks } = marksOf(Math.max(m.from, 0), m.to, m.of);
  const figures = (y) =>
    scales.map((kind) => {
      const unit = measureOf({ kind });
      return `${(v(kind).value(y) * unit.out).toFixed(unit.digits > 1 ? 2 : 0)}${unit.unit}`;
    });
  const knots = tracks.flatMap((t, i) =>
    handled(b, clip, t, v).map((k) => ({ ...k, ink: INKS[i % INKS.length], v: v(t.channel.kind) })),
  );
  const knot = (k) =>
    h("circle", {
      key: `${k.track}-${k.was}`,
      cx: m.x(k.at),
      cy: k.v.y(k.value),
      r: 5,
      class: `knot${k.on ? " on" : ""}`,
      stroke: k.ink,
      "data-curve-key": `${k.track}@${k.was}`,
      onpointerdown: dragKey(b, clip, tracks, m, v, k),
    });
  const head = h("div", { class: "key-row" }, h("span", { class: "soft" }, "frames"), ruler(b, clip, m, wide));
  const sheet = h(
    "div",
    { class: "key-rows curves" },
    legend(b, clip),
    h(
      "svg",
      {
        width: wide,
        height: HIGH,
        class: "threads",
        tabindex: 0,
        role: "group",
        "aria-label": "Curves of the motion",
        onwheel: zoomed(b, clip, wide),
        onpointerdown: (e) => boxKeys(b, e, inCurves(clip, tracks, m, v)),
        onkeydown: (e) => stepFrames(b, clip, e),
      },
      marks.map((f) => h("line", { key: `m${f}`, x1: m.x(f), x2: m.x(f), y1: 0, y2: HIGH, class: "post-line" })),
      scales.map((kind) =>
        h("line", { key: `z${kind}`, x1: 0, x2: wide, y1: v(kind).y(0), y2: v(kind).y(0), class: "curve-zero" }),
      ),
      tracks.map((t, i) => line(b, clip, t, i, m, v)),
      h("line", { x1: m.x(b.clipFrame), x2: m.x(b.clipFrame), y1: 0, y2: HIGH, class: "now-line" }),
      knots.map(knot),
      knots.map((k) => slopes(b, m, k.v, k)),
      h("text", { x: 4, y: 12 }, figures(EDGE).join("  ")),
      h("text", { x: 4, y: HIGH - 4 }, figures(HIGH - EDGE).join("  ")),
      box ? h("rect", { x: box[0], y: box[1], width: box[2], height: box[3], class: "key-box" }) : null,
    ),
  );
  return [head, sheet];
}
