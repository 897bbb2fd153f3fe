// A link's curve as a drawing: the lead runs to the right, the follower up; keys are dragged, a double click sets a new
// one.
import { EMBER, INK } from "../plate/space.js";

const W = 262,
  H = 150,
  LEFT = 34,
  FOOT = 20,
  TOP = 8,
  RIGHT = 8;
const NS = "http://www.w3.org/2000/svg";

/** An SVG element. */
function s(tag, attributes = {}, ...children) {
  const node = document.createElementNS(NS, tag);
  for (const [k, v] of Object.entries(attributes)) {
    if (k.startsWith("on")) node.addEventListener(k.slice(2), v);
    else if (v !== undefined) node.setAttribute(k, v);
  }
  node.append(...children);
  return node;
}

/** Slopes of a smooth curve that doesn't overshoot; the same as the core's. */
function slopes(keys) {
  const n = keys.length,
    step = keys.slice(1).map((k, i) => (k.value - keys[i].value) / (k.at - keys[i].at));
  const out = [step[0], ...Array(Math.max(n - 2, 0)).fill(0), ...(n > 1 ? [step[n - 2]] : [])];
  for (let i = 1; i < n - 1; i++) {
    if (step[i - 1] * step[i] <= 0) continue;
    const a = keys[i].at - keys[i - 1].at,
      b = keys[i + 1].at - keys[i].at,
      w = 2 * b + a,
      v = b + 2 * a;
    out[i] = (w + v) / (w / step[i - 1] + v / step[i]);
  }
  return out;
}

/** Points of the curve between its keys, to draw. */
function trace(curve) {
  const keys = curve.keys;
  if (keys.length < 2) return keys.map((k) => [k.at, k.value]);
  if (curve.manner === "linear") return keys.map((k) => [k.at, k.value]);
  if (curve.manner === "stepped")
    return keys.flatMap((k, i) =>
      i
        ? [
            [k.at, keys[i - 1].value],
            [k.at, k.value],
          ]
        : [[k.at, k.value]],
    );
  const m = slopes(keys),
    out = [];
  keys.slice(1).forEach((k, i) => {
    const a = keys[i],
      h = k.at - a.at;
    for (let j = 0; j <= 14; j++) {
      const t = j / 14,
        u = 1 - t;
      out.push([
        a.at + t * h,
        a.value * (1 + 2 * t) * u * u + k.value * (1 + 2 * u) * t * t + h * t * u * (m[i] * u - m[i + 1] * t),
      ]);
    }
  });
  return out;
}

/**
 * The drawing.  `curves`: all followers' curves, `chosen`: which one is in the hand; `x` and `y`: {unit, out} by which
 * values are shown; `low`, `high`: the lead's range; `now`: the lead's present value; onKey(was, at, value) when a key
 * was
 * let go (was null: a new one), onDrop(at) when one is to go.
 */
export function curveDrawing(asked) {
  const { curves, chosen, x, y, now } = asked;
  const own = curves[chosen],
    map = mapping(asked);
  const { px, py } = map;
  const said = s("text", { x: W - RIGHT, y: TOP + 10, "text-anchor": "end", class: "curve-said" });
  const most = Math.max(...map.all, 0),
    least = Math.min(...map.all, 0);
  const svg = s(
    "svg",
    { viewBox: `0 0 ${W} ${H}`, class: "curve", role: "group", "aria-label": "Curve from lead to follower" },
    s("line", { x1: LEFT, x2: W - RIGHT, y1: py(0), y2: py(0), class: "curve-zero" }),
    s("line", { x1: px(0), x2: px(0), y1: TOP, y2: H - FOOT, class: "curve-zero" }),
    s("text", { x: LEFT, y: H - 5 }, figure(map.left, x)),
    s("text", { x: W - RIGHT, y: H - 5, "text-anchor": "end" }, figure(map.right, x)),
    s("text", { x: 2, y: py(most) + 4 }, figure(most, y)),
    s("text", { x: 2, y: py(least) + 4 }, figure(least, y)),
    ...curves.map((c, i) => (i === chosen ? "" : s("path", { d: pathOf(c, map), class: "curve-other" }))),
    s("line", { x1: px(now), x2: px(now), y1: TOP, y2: H - FOOT, stroke: EMBER, "stroke-dasharray": "3 3" }),
    said,
  );
  const line = s("path", { d: pathOf(own, map), fill: "none", stroke: INK, "stroke-width": 2.2 });
  svg.append(line, ...own.keys.map((k, i) => keyDot(k, i, { ...asked, own, map, svg, line, said })));
  svg.addEventListener("dblclick", (e) => {
    if (e.target.closest("circle")) return;
    const [at, value] = map.place(svg, e);
    asked.onKey(null, at, value);
  });
  return svg;
}

const figure = (v, axis) => `${(v * axis.out).toFixed(axis.out === 1 ? 2 : 1)}${axis.unit}`;

const pathOf = (curve, { px, py }) =>
  "M" +
  trace(curve)
    .map(([a, b]) => `${px(a).toFixed(1)},${py(b).toFixed(1)}`)
    .join("L");

/** From leads' and followers' values to places in the drawing, and back. */
function mapping({ curves, chosen, low, high }) {
  const own = curves[chosen],
    all = curves.flatMap((c) => c.keys.map((k) => k.value));
  const span = Math.max(...all.map(Math.abs), 1e-3),
    floor = Math.min(0, ...all) - 0.1 * span,
    roof = Math.max(0, ...all) + 0.1 * span;
  const left = Math.min(low, ...own.keys.map((k) => k.at)),
    right = Math.max(high, ...own.keys.map((k) => k.at));
  const px = (v) => LEFT + ((v - left) / (right - left)) * (W - LEFT - RIGHT),
    py = (v) => TOP + ((roof - v) / (roof - floor)) * (H - TOP - FOOT);
  const vx = (p) => left + ((p - LEFT) / (W - LEFT - RIGHT)) * (right - left),
    vy = (p) => roof - ((p - TOP) / (H - TOP - FOOT)) * (roof - floor);
  const place = (svg, e) => {
    const box = svg.getBoundingClientRect();
    return [vx(((e.clientX - box.left) / box.width) * W), vy(((e.clientY - box.top) / box.height) * H)];
  };
  return { all, left, right, floor, roof, px, py, place };
}

/** A key: dragged, moved by the arrows, taken away. */
function keyDot(k, i, { own, map, svg, line, said, x, y, onKey, onDrop }) {
  const rest = Math.abs(k.at) < 1e-9 && Math.abs(k.value) < 1e-9;
  const dot = s("circle", {
    cx: map.px(k.at),
    cy: map.py(k.value),
    r: 6,
    class: rest ? "curve-key rest" : "curve-key",
    tabindex: 0,
    role: "slider",
    "aria-label": `Key at ${figure(k.at, x)}`,
    "aria-valuenow": (k.value * y.out).toFixed(2),
    "aria-valuetext": figure(k.value, y),
  });
  const show = (at, value) => {
    dot.setAttribute("cx", map.px(at));
    dot.setAttribute("cy", map.py(value));
    said.textContent = `${figure(at, x)} → ${figure(value, y)}`;
    const keys = own.keys.map((q, j) => (j === i ? { at, value } : q)).sort((a, b) => a.at - b.at);
    line.setAttribute("d", pathOf({ ...own, keys }, map));
  };
  dot.addEventListener("pointerdown", (e) => dragged(e, dot, { k, map, svg, show, onKey }));
  dot.addEventListener("keydown", (e) => {
    const by = e.shiftKey ? 0.01 : 0.05,
      ways = { ArrowUp: [0, 1], ArrowDown: [0, -1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[e.key];
    const drop = e.key === "Delete" || e.key === "Backspace";
    if (!ways && !drop) return;
    e.preventDefault();
    e.stopPropagation();
    if (drop) onDrop(k.at);
    else onKey(k.at, k.at + ways[0] * by * (map.right - map.left), k.value + ways[1] * by * (map.roof - map.floor));
  });
  return dot;
}

function dragged(e, dot, { k, map, svg, show, onKey }) {
  e.preventDefault();
  dot.setPointerCapture(e.pointerId);
  let at = k.at,
    value = k.value,
    went = false;
  const move = (m) => {
    [at, value] = map.place(svg, m);
    went = true;
    at = Math.min(Math.max(at, map.left), map.right);
    show(at, value);
  };
  const up = () => {
    dot.removeEventListener("pointermove", move);
    dot.removeEventListener("pointerup", up);
    if (went) onKey(k.at, at, value);
  };
  dot.addEventListener("pointermove", move);
  dot.addEventListener("pointerup", up);
}
