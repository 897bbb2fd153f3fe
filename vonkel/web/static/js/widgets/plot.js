// Curves over an angle: one can be followed by the pointer, and a click goes to the nearest angle.
import { h } from "./html.js";

const W = 268,
  H = 138,
  LEFT = 40,
  RIGHT = 8,
  TOP = 8,
  FOOT = 20;
const INKS = ["#c8481a", "#1b7471", "#7a3b76", "#8a5e12", "#3f6184"];
const ink = (i) => INKS[i % INKS.length];

/**
 * @typedef {{ at: number[], lines: { name: string, values: number[] }[], show: (v: number) => string,
 *   limits?: number[], now: number | null, go: (i: number) => void, label: string, unit?: string }} Plotted
 */

/** From angles and values to the drawing's pixels.  @param {Plotted} what */
function measured({ at, lines, limits = [] }) {
  const all = [...lines.flatMap((l) => l.values), ...limits, 0],
    low = Math.min(...all),
    high = Math.max(...all),
    room = 0.06 * (high - low || 1);
  return {
    low,
    high,
    x: (d) => LEFT + ((W - LEFT - RIGHT) * (d - at[0])) / (at.at(-1) - at[0] || 1),
    y: (v) => TOP + ((H - TOP - FOOT) * (high + room - v)) / (high - low + 2 * room || 1),
  };
}

/** What takes the figure to an angle: a click, or the arrow keys.  @param {Plotted} what */
function handling({ at, now, go }, x) {
  const nearest = (e) => {
    const box = e.currentTarget.getBoundingClientRect(),
      px = ((e.clientX - box.left) * W) / box.width;
    return at.reduce((best, d, i) => (Math.abs(x(d) - px) < Math.abs(x(at[best]) - px) ? i : best), 0);
  };
  const onkeydown = (e) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key],
      i = now === null ? Math.floor(at.length / 2) : at.indexOf(now);
    if (!by) return;
    e.preventDefault();
    e.stopPropagation();
    go(Math.min(Math.max(i + by, 0), at.length - 1));
  };
  return { onclick: (e) => go(nearest(e)), onkeydown };
}

function line({ name, values }, i, { at, now }, { x, y }) {
  const points = values.map((v, k) => `${x(at[k])},${y(v)}`).join(" ");
  const dot = (v, k) => h("circle", { key: k, cx: x(at[k]), cy: y(v), r: at[k] === now ? 4 : 2.2, fill: ink(i) });
  return h("g", { key: name }, h("polyline", { points, class: "plot-line", stroke: ink(i) }), values.map(dot));
}

const key = (lines) =>
  h(
    "ul",
    { class: "plot-key" },
    lines.map((l, i) => h("li", { key: l.name }, h("i", { style: `background:${ink(i)}` }), l.name)),
  );

/**
 * A drawing of `lines` over `at` (degrees, or in `unit`), the values as `show` writes them; `limits`: values that
 * would just pass; `now`: the angle that is looked at; `go(i)`: a click near the i-th angle.
 * @param {Plotted} what
 */
export function plot(what) {
  const { at, lines, show, limits = [], now, label, unit = "°" } = what,
    map = measured(what),
    { x, y, low, high } = map;
  const level = (v, kind) => h("line", { x1: LEFT, x2: W - RIGHT, y1: y(v), y2: y(v), class: kind });
  const word = (px, py, text, end = false) => h("text", { x: px, y: py, "text-anchor": end ? "end" : undefined }, text);
  const said = {
    viewBox: `0 0 ${W} ${H}`,
    class: "plot",
    role: "slider",
    tabindex: 0,
    "aria-label": label,
    "aria-valuetext": now === null ? "rest" : `${Math.round(now)}${unit}`,
  };
  const svg = h(
    "svg",
    { ...said, ...handling(what, x) },
    level(0, "plot-zero"),
    limits.map((v) => level(v, "plot-limit")),
    now === null ? null : h("line", { x1: x(now), x2: x(now), y1: TOP, y2: H - FOOT, class: "plot-now" }),
    lines.map((l, i) => line(l, i, what, map)),
    word(2, y(high) + 4, show(high)),
    word(2, y(low) + 4, show(low)),
    word(LEFT, H - 4, `${Math.round(at[0])}${unit}`),
    word(W - RIGHT, H - 4, `${Math.round(at.at(-1))}${unit}`, true),
  );
  return h("div", {}, svg, lines.length > 1 ? key(lines) : null);
}
