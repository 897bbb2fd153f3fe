// The key strip: a thread for each thing that moves, its keys as knots on it; whole poses as posts across all of them.
import { pulled } from "../widgets/drag.js";
import { button, select, switchButton } from "../widgets/fields.js";
import { h, Still } from "../widgets/html.js";
import { BENT, carried, HELD, idOf, LINEAR, marksOf, posesOf, rowsOf } from "../widgets/keys.js";
import { plainName } from "../words.js";

export const NAMES = 132; // pixels for the names before the threads
const ROW = 20,
  HEAD = 22,
  POSTS = 26;

/** Whether a thing's thread is shown, as it is chosen above the strip. */
export function shows(b) {
  const how = b.ui.keysOf;
  if (how === "all") return () => true;
  if (how === "chosen") return (thing) => thing === b.plate.selected.control;
  const level = new Map(b.state.controls.map((c) => [c.name, c.level]));
  return (thing) => level.get(thing) === how;
}

/** The frames in view. */
export function viewOf(b, clip) {
  const [from, to] = b.ui.keyView ?? [];
  return to > from ? [from, to] : [-0.5, Math.max(clip.frames - 1, 4) + 1.5];
}

/** From frames to pixels of a drawing so wide, and back. */
export function measured(b, clip, wide) {
  const [from, to] = viewOf(b, clip),
    of = (wide - 10) / (to - from);
  return { from, to, of, x: (f) => (f - from) * of, frame: (x) => from + x / of };
}

/** Wheel: nearer and farther about the pointer; sideways, or with Shift, along. */
export function wheeled(b, clip, wide) {
  return (e) => {
    if (!e.ctrlKey && !e.shiftKey && !e.deltaX && e.currentTarget.dataset.rows) return; // it scrolls the rows
    e.preventDefault();
    const { from, to, of } = measured(b, clip, wide);
    const along = e.shiftKey ? e.deltaY : e.deltaX;
    if (along) {
      b.ui.keyView = [from + along / of, to + along / of];
      return;
    }
    const box = e.currentTarget.getBoundingClientRect(),
      at = from + (e.clientX - box.left) / of,
      by = Math.exp(e.deltaY * 0.0015);
    if ((to - from) * by > 3 && (to - from) * by < 2e4) b.ui.keyView = [at + (from - at) * by, at + (to - at) * by];
  };
}

/** The chosen keys as the steps take them. */
export const chosenKeys = (b) =>
  [...b.ui.keysChosen].map((id) => {
    const [track, at] = id.split("@").map(Number);
    return [track, at / 1000];
  });

/** A step of keys, after which the same frame is shown. */
export async function keyStep(b, name, params, after = null) {
  const done = await b.step(name, { clip: b.clipAtHand().name, ...params }, { keepPose: true, quiet: true });
  b.ui.keyDrag = null;
  if (done) {
    b.ui.keysChosen = new Set(after ?? []);
    b.clipTo(Math.min(b.clipFrame, b.clipAtHand().frames - 1));
  }
  return done;
}

const choose = (b, ids, more) => {
  const now = new Set(more ? b.ui.keysChosen : []);
  const all = ids.every((id) => now.has(id));
  for (const id of ids)
    if (more && all) now.delete(id);
    else now.add(id);
  b.ui.keysChosen = now;
};

/** Chosen keys go along with the hand; where it lets go they stand. */
function dragKeys(b, e, of, ids) {
  if (!ids.some((id) => b.ui.keysChosen.has(id)) || e.shiftKey) choose(b, ids, e.shiftKey);
  pulled(e, (dx, _dy, done, went) => {
    const by = b.ui.keysSnap ? Math.round(dx / of) : dx / of;
    if (!done) b.ui.keyDrag = { by };
    else if (went && by) moveChosen(b, { by });
    else b.ui.keyDrag = null;
  });
}

/** @param {{ by?: number, scale?: number, about?: number }} how */
export function moveChosen(b, how) {
  const keys = chosenKeys(b),
    snap = b.ui.keysSnap;
  if (!keys.length) return null;
  const after = keys.map(([t, at]) => idOf(t, carried(at, how, snap)));
  return keyStep(b, "keys.move", { keys, snap, ...how }, after);
}

/** A whole pose goes along with the hand, with Shift all that come after it. */
function dragPose(b, e, of, frame) {
  b.ui.keysChosen = new Set(
    b
      .clipAtHand()
      .keys.filter((k) => Math.abs(k[1] - frame) < 1e-3)
      .map((k) => idOf(k[0], k[1])),
  );
  const after = e.shiftKey;
  pulled(e, (dx, _dy, done, went) => {
    const by = b.ui.keysSnap ? Math.round(dx / of) : dx / of;
    if (!done) b.ui.keyDrag = { by, pose: frame, after };
    else if (went && by) keyStep(b, "keys.move_pose", { frame, to: Math.max(frame + by, 0), after });
    else {
      b.ui.keyDrag = null;
      b.clipPlaying = false;
      b.clipTo(Math.round(frame));
    }
  });
}

/** Draw a box: the keys that `within(left, right, top, foot)` finds are chosen, with Shift besides those that are. */
export function boxKeys(b, e, within) {
  const box = e.currentTarget.getBoundingClientRect(),
    x0 = e.clientX - box.left,
    y0 = e.clientY - box.top,
    more = e.shiftKey;
  pulled(e, (dx, dy, done, went) => {
    const [left, right] = [Math.min(x0, x0 + dx), Math.max(x0, x0 + dx)],
      [top, foot] = [Math.min(y0, y0 + dy), Math.max(y0, y0 + dy)];
    b.ui.keyBox = done ? null : [left, top, right - left, foot - top];
    if (!done) return;
    if (went) b.ui.keysChosen = new Set([...(more ? b.ui.keysChosen : []), ...within(left, right, top, foot)]);
    else if (!more) b.ui.keysChosen = new Set();
  });
}

/** The keys of threads that lie in a box. */
const inRows = (rows, m) => (left, right, top, foot) =>
  rows.flatMap((r, i) => {
    const y = (i + 0.5) * ROW;
    if (y < top || y > foot) return [];
    const inside = r.keys.filter((k) => m.x(k.at) >= left && m.x(k.at) <= right);
    return inside.flatMap((k) => k.tracks.map((t) => idOf(t, k.at)));
  });

/** Where a key is drawn while chosen ones are in the hand. */
function shownAt(b, at, on) {
  const drag = b.ui.keyDrag;
  if (!drag) return at;
  if ("pose" in drag) {
    const goes = drag.after ? at >= drag.pose - 1e-3 : Math.abs(at - drag.pose) < 1e-3;
    return goes ? Math.max(at + drag.by, 0) : at;
  }
  return on ? carried(at, drag, b.ui.keysSnap) : at;
}

/** How the thread goes on from a knot: a bar that holds, a straight line, a wave. */
function strand(a, c, y, manner, key) {
  if (manner === HELD)
    return h("rect", { key, x: a, y: y - 3, width: Math.max(c - a, 0), height: 6, class: "strand held" });
  if (manner === LINEAR) return h("path", { key, d: `M${a},${y}L${c},${y}`, class: "strand" });
  const high = Math.min(5, (c - a) / 5),
    q = (c - a) / 4;
  const d = `M${a},${y}q${q},${-high} ${2 * q},0t${2 * q},0`;
  return h("path", { key, d, class: manner === BENT ? "strand own" : "strand" });
}

/** How large knots may be so that neighbours can be told apart. */
function dotSize(knots) {
  const gaps = knots.slice(1).map((k, j) => k.x - knots[j].x);
  return Math.min(Math.max(Math.min(...gaps, 14) / 2.5, 2), 5.5);
}

function thread(b, row, i, m) {
  const y = (i + 0.5) * ROW,
    { keysChosen } = b.ui;
  const knots = row.keys.map((k) => {
    const ids = k.tracks.map((t) => idOf(t, k.at)),
      on = ids.some((id) => keysChosen.has(id));
    return { ...k, ids, on, x: m.x(shownAt(b, k.at, on)) };
  });
  const r = dotSize(knots);
  return h(
    "g",
    { key: row.thing },
    knots.slice(1).map((k, j) => strand(knots[j].x, k.x, y, knots[j].manner, j)),
    knots.map((k) =>
      h("circle", {
        key: `k${k.at}`,
        cx: k.x,
        cy: y,
        r,
        class: `knot${k.on ? " on" : ""}`,
        "data-key": `${row.thing}@${k.at}`,
        onpointerdown: (e) => dragKeys(b, e, m.of, k.ids),
      }),
    ),
  );
}

/** Brackets round the chosen keys spread them about the other end. */
function brackets(b, m, high) {
  const at = chosenKeys(b).map(([, f]) => f),
    low = Math.min(...at),
    top = Math.max(...at);
  if (at.length < 2 || top - low < 1e-3) return null;
  const spread = (about, from) => (e) =>
    pulled(e, (dx, _dy, done, went) => {
      const to = from + dx / m.of,
        scale = (to - about) / (from - about);
      if (!(Math.abs(scale) > 0.02)) return;
      if (!done) b.ui.keyDrag = { scale, about };
      else if (went) moveChosen(b, { scale, about });
    });
  const hook = (f, way, act, label) => {
    const x = m.x(shownAt(b, f, true)) + 10 * way;
    const d = `M${x - 4 * way},2h${4 * way}v${high - 4}h${-4 * way}`;
    return h("path", { d, class: "hook", onpointerdown: act, "aria-label": label });
  };
  return [
    hook(low, -1, spread(top, low), "Spread them to the left"),
    hook(top, 1, spread(low, top), "Spread them to the right"),
  ];
}

/** The ruler: frames, and the frame at hand, which the pointer takes along. */
export function ruler(b, clip, m, wide) {
  const { marks, step } = marksOf(Math.max(m.from, 0), m.to, m.of);
  const go = (e) => {
    const box = e.currentTarget.getBoundingClientRect(),
      at = (x) => Math.min(Math.max(Math.round(m.frame(x)), 0), clip.frames - 1);
    b.clipPlaying = false;
    b.clipTo(at(e.clientX - box.left));
    const x0 = e.clientX - box.left;
    pulled(e, (dx) => b.clipTo(at(x0 + dx)));
  };
  const fine = step >= 5 ? step / 5 : 1,
    small = [];
  for (let f = Math.max(Math.ceil(m.from), 0); f <= m.to; f += fine) small.push(f);
  return h(
    "svg",
    {
      width: wide,
      height: HEAD,
      class: "key-ruler",
      onpointerdown: go,
      role: "slider",
      tabindex: 0,
      "aria-label": "Frame of the motion",
      "aria-valuenow": b.clipFrame,
      "aria-valuemin": 0,
      "aria-valuemax": clip.frames - 1,
      onkeydown: (e) => stepFrames(b, clip, e),
    },
    h("rect", {
      x: m.x(0),
      y: HEAD - 5,
      width: Math.max(m.x(clip.frames - 1) - m.x(0), 0),
      height: 5,
      class: "key-span",
    }),
    small.map((f) => h("line", { key: `s${f}`, x1: m.x(f), x2: m.x(f), y1: HEAD - 4, y2: HEAD, class: "key-tick" })),
    marks.map((f) => h("text", { key: f, x: m.x(f), y: HEAD - 8, "text-anchor": "middle" }, String(f))),
    h("path", { d: `M${m.x(b.clipFrame) - 5},${HEAD - 9}h10l-5,9z`, class: "key-now" }),
  );
}

/** Arrow keys go frame by frame, with Alt from pose to pose; with Shift the chosen keys move. */
export function stepFrames(b, clip, e) {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
  if ((e.key === "Delete" || e.key === "Backspace") && b.ui.keysChosen.size) {
    e.preventDefault();
    e.stopPropagation();
    keyStep(b, "keys.drop", { keys: chosenKeys(b) });
  }
  if (!way) return;
  e.preventDefault();
  e.stopPropagation();
  if (e.shiftKey) {
    moveChosen(b, { by: way });
    return;
  }
  const poses = clip.keyed ? posesOf(clip) : [],
    next = way > 0 ? poses.find((f) => f > b.clipFrame + 0.5) : poses.findLast((f) => f < b.clipFrame - 0.5);
  const to = e.altKey && next !== undefined ? Math.round(next) : b.clipFrame + way;
  b.clipPlaying = false;
  b.clipTo(Math.min(Math.max(to, 0), clip.frames - 1));
}

/** Whole poses: dragged in time; between two of them one more is put by a double click. */
function posts(b, clip, m, wide) {
  const between = (e) => {
    const box = e.currentTarget.getBoundingClientRect(),
      at = m.frame(e.clientX - box.left);
    if (!e.target.closest("g.post")) keyStep(b, "keys.between", { frame: b.ui.keysSnap ? Math.round(at) : at });
  };
  const poses = posesOf(clip),
    gap = Math.min(...poses.slice(1).map((f, i) => f - poses[i]), 1e3) * m.of,
    w = Math.min(Math.max(gap / 2 - 1, 1.5), 7);
  const post = (f, i) => {
    const x = m.x(shownAt(b, f, false));
    const d = `M${x - w},4h${2 * w}v13l${-w},6l${-w},-6z`;
    return h(
      "g",
      {
        key: f,
        class: `post${Math.abs(f - b.clipFrame) < 0.5 ? " here" : ""}`,
        "data-pose-at": f,
        onpointerdown: (e) => dragPose(b, e, m.of, f),
      },
      h("path", { d }),
      w > 6 ? h("text", { x, y: 16, "text-anchor": "middle" }, String(i + 1)) : null,
    );
  };
  return h(
    "svg",
    { width: wide, height: POSTS, class: "key-posts", ondblclick: between, role: "group", "aria-label": "Whole poses" },
    poses.map(post),
  );
}

function threads(b, clip, rows, m, wide) {
  const high = Math.max(rows.length * ROW, ROW),
    box = b.ui.keyBox;
  const postLine = (f) => {
    const x = m.x(shownAt(b, f, false));
    return h("line", { key: `p${f}`, x1: x, x2: x, y1: 0, y2: high, class: "post-line" });
  };
  return h(
    "svg",
    {
      width: wide,
      height: high,
      class: "threads",
      tabindex: 0,
      role: "group",
      "aria-label": "Keys of the motion",
      onpointerdown: (e) => boxKeys(b, e, inRows(rows, m)),
      onkeydown: (e) => stepFrames(b, clip, e),
    },
    rows.map((_, i) =>
      i % 2 ? h("rect", { key: `r${i}`, x: 0, y: i * ROW, width: wide, height: ROW, class: "row-even" }) : null,
    ),
    h(Still, {
      of: [clip, b.ui.keysChosen, b.ui.keyDrag, b.ui.keyView, b.ui.keysSnap, wide, rows.length, b.ui.keysOf],
      make: () => [posesOf(clip).map(postLine), rows.map((r, i) => thread(b, r, i, m))],
    }),
    h("line", { x1: m.x(b.clipFrame), x2: m.x(b.clipFrame), y1: 0, y2: high, class: "now-line" }),
    brackets(b, m, high),
    box ? h("rect", { x: box[0], y: box[1], width: box[2], height: box[3], class: "key-box" }) : null,
  );
}

/** What stands above both the threads and the curves: which things, how near, whether on whole frames. */
export function keyHead(b, clip) {
  const levels = [...new Set(b.state.controls.map((c) => c.level))].map((l) => [l, `the set “${l}”`]);
  return h(
    "div",
    { class: "key-head" },
    select(
      "Which things are shown",
      [["all", "everything that moves"], ["chosen", "what is chosen"], ...levels],
      b.ui.keysOf,
      (v) => (b.ui.keysOf = v),
    ),
    switchButton("Whole frames", b.ui.keysSnap, () => (b.ui.keysSnap = !b.ui.keysSnap), "Keys come to whole frames"),
    switchButton(
      "As I pose",
      b.ui.record,
      () => (b.ui.record = !b.ui.record),
      "Whatever is posed is set at the frame at hand",
    ),
    button("All in view", () => (b.ui.keyView = null), "small quiet"),
    h("output", { class: "soft fig" }, `frame ${b.clipFrame} of ${clip.frames - 1} · ${clip.rate} a second`),
  );
}

const sideOf = (b, thing) => b.state.controls.find((c) => c.name === thing)?.side ?? "C";

export function keyStrip(b, clip) {
  const wide = b.ui.keyWide,
    m = measured(b, clip, wide),
    rows = rowsOf(clip, shows(b));
  const name = (r) =>
    h(
      "button",
      {
        key: r.thing,
        type: "button",
        class: `thread-name ${sideOf(b, r.thing)}${b.plate.selected.control === r.thing ? " on" : ""}`,
        title: r.thing,
        onclick: () => b.selectControl(r.thing),
      },
      plainName(r.thing.replace(/^(shape|board):/, "")),
      h("i", {}, sideOf(b, r.thing)),
    );
  return [
    h("div", { class: "key-row" }, h("span", { class: "soft" }, "frames"), ruler(b, clip, m, wide)),
    h("div", { class: "key-row" }, h("span", { class: "soft" }, "whole poses"), posts(b, clip, m, wide)),
    h(
      "div",
      { class: "key-rows", "data-rows": 1, onwheel: wheeled(b, clip, wide) },
      h("div", { class: "names" }, rows.map(name)),
      rows.length
        ? threads(b, clip, rows, m, wide)
        : h("p", { class: "soft" }, "Nothing of that moves. Show everything, or choose another control."),
    ),
  ];
}
