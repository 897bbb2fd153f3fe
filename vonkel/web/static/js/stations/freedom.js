// A joint's freedom: from where to where it may turn about each axis, and how it resists.
import { acts, button, numberField, pairs, slider, tick } from "../widgets/fields.js";
import { h } from "../widgets/html.js";

const degrees = (r) => (r === null || r === undefined ? "" : ((r * 180) / Math.PI).toFixed(0));
const NOTHING = {
  low: [null, null, null],
  high: [null, null, null],
  locked: [false, false, false],
  stiffness: 0,
  source: "",
};
const MIDDLE = [60, 56],
  ROUND = 46; // of the fan's drawing

export function freeTab(b, j) {
  const f = j.freedom ?? NOTHING;
  const inDegrees = (list) => list.map((r) => (r === null ? null : (r * 180) / Math.PI));
  const set = (change) =>
    b.step("joints.free", {
      joint: j.name,
      low: inDegrees(f.low),
      high: inDegrees(f.high),
      locked: f.locked,
      stiffness: f.stiffness,
      both_sides: b.symmetry,
      ...change,
    });
  const put = (list, k, v) => list.map((x, i) => (i === k ? v : x));
  const limit = (k, which) =>
    numberField(
      `${which} limit about ${"xyz"[k]}, degrees`,
      degrees(f[which][k]),
      (v) => set({ [which]: put(inDegrees(f[which]), k, v) }),
      { step: 1, placeholder: "free", empty: true },
    );
  const named = (k) =>
    `${"xyz"[k]}${j.hinge.at(-1) === "xyz"[k] ? " hinge" : j.aim.at(-1) === "xyz"[k] ? " bone" : ""}`;
  const row = (k) =>
    h(
      "tr",
      { key: k },
      h("th", {}, named(k)),
      h("td", {}, limit(k, "low")),
      h("td", {}, limit(k, "high")),
      h(
        "td",
        {},
        tick(`lock ${"xyz"[k]}`, f.locked[k], (on) => set({ locked: put(f.locked, k, on) })),
      ),
    );
  return [
    rowsOf(row),
    range(j, f),
    pairs(
      [
        "stiffness",
        slider("stiffness", f.stiffness, {
          low: 0,
          high: 1,
          step: 0.05,
          onchange: (e) => set({ stiffness: Number(e.target.value) }),
        }),
      ],
      f.source ? ["from", f.source] : null,
    ),
    acts(
      button("±10°, a stiff link", () => b.step("joints.stiffen", { joints: [j.name] }), "small"),
      button("Free it", () => b.step("joints.free", { joint: j.name, both_sides: b.symmetry }), "small"),
    ),
    wholeSkeleton((table) => b.step("joints.free_by_table", { table })),
  ];
}

/** One row an axis. */
const rowsOf = (row) =>
  h(
    "table",
    { class: "freedom" },
    h(
      "thead",
      {},
      h(
        "tr",
        {},
        ["", "from °", "to °", "lock"].map((t) => h("th", { key: t }, t)),
      ),
    ),
    h("tbody", {}, [0, 1, 2].map(row)),
  );

/** Set the same for the whole skeleton. */
const wholeSkeleton = (byTable) => [
  h("h3", {}, "Whole skeleton"),
  acts(
    button("Normal ranges of people", () => byTable("people"), "small"),
    button("A dog's", () => byTable("dog"), "small"),
  ),
  h("p", { class: "soft" }, "Both tables are given from memory: check what matters against your own."),
];

/** The hinge's range as a fan: rest is straight up. */
function range(j, f) {
  const k = "xyz".indexOf(j.hinge.at(-1)),
    low = f.low[k],
    high = f.high[k];
  if (low === null || high === null) return null;
  const [x, y] = MIDDLE;
  const at = (a, r) => `${(x + r * Math.sin(a)).toFixed(1)} ${(y - r * Math.cos(a)).toFixed(1)}`,
    big = high - low > Math.PI ? 1 : 0;
  const line = (a, r, more) => h("path", { d: `M${x} ${y} L${at(a, r)}`, ...more });
  return h(
    "svg",
    {
      viewBox: "0 0 120 112",
      class: "fan",
      role: "img",
      "aria-label": `hinge from ${degrees(low)} to ${degrees(high)} degrees`,
    },
    h("path", {
      d: `M${x} ${y} L${at(low, ROUND)} A${ROUND} ${ROUND} 0 ${big} 1 ${at(high, ROUND)} Z`,
      class: "fan-range",
    }),
    line(0, 50, { class: "fan-rest" }),
    line((low + high) / 2, ROUND, { class: "fan-middle" }),
  );
}
