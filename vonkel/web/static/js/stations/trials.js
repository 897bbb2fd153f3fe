// The Trials station: every pose with its figures.
import { enterStation } from "../app/stations.js";
import { noPoses } from "../app/strip.js";
import { acts, button, figures, numberField, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { plot } from "../widgets/plot.js";
import { called, fullName, inWords } from "../words.js";
import { cardCompare, compareFields } from "./cardcompare.js";
import { folded } from "./common.js";
import { ownPoses } from "./ownposes.js";

const MOST = 6; // limbs whose volume is listed

const ANGLES =
  "Judged as it will be handed over. Angles lie near the ends of normal ranges, from memory; " +
  "limits are common practice, or what skins bound by hand keep below.";

function left(b) {
  if (!b.state.skin)
    return [h("h2", {}, "Poses"), h("p", { class: "empty" }, "Bind the skin first; then every pose can be tried.")];
  const cards = b.strip.cards.length ? b.strip.cards : b.state.trial_names.map((name) => ({ name }));
  const row = (c) =>
    h(
      "li",
      { key: c.name },
      h(
        "button",
        {
          type: "button",
          "aria-selected": String(b.trial === c.name),
          "data-keep": `t-${c.name}`,
          onclick: () => b.strip.go(c),
        },
        c.grade ? h("span", { class: "fig" }, c.grade) : null,
        h("span", { class: "grow" }, called(c)),
      ),
    );
  return [
    h("h2", {}, "Poses"),
    cardCompare(b),
    ownPoses(b),
    h("ul", { class: "rows" }, cards.map(row)),
    noPoses(b) ? h("p", { class: "empty" }, "None yet.") : null,
    b.strip.cards.length && !b.strip.cards.some((c) => c.sweep?.joint)
      ? acts(button("Turn every joint, too", () => b.strip.run(true), "small"))
      : null,
    h("p", { class: "soft" }, ANGLES),
  ];
}

function right(b) {
  const c = b.strip.chosen();
  if (!c) {
    const waits = b.strip.cards.length
      ? "Choose a pose: the figure goes there, and the heat shows where it suffers."
      : "Run the trials, below.";
    return [h("h2", {}, "Figures"), h("p", { class: "empty" }, noPoses(b) || waits)];
  }
  const figure = (v, title) => h("span", { class: "fig", title }, v);
  const signed = (v) => `${v >= 0 ? "+" : "−"}${Math.abs(100 * v).toFixed(1)} %`;
  const limbs = Object.entries(c.volume_change).sort((x, y) => Math.abs(y[1]) - Math.abs(x[1]));
  const holder = () => {
    b.go("skin");
    b.trial = c.name;
    b.selectJoint(c.worst_joint);
    b.pose();
  };
  return [
    h("h2", {}, called(c), " ", h("span", { class: "fig" }, c.grade)),
    h("p", { class: "soft" }, c.about),
    h("p", {}, `Worst: ${inWords(c.worst)}, at ${fullName(c.worst_joint)}.`),
    pairs(
      ...(c.measures ?? []).map((m) => [
        m.title,
        figure(inItsUnit(m), `${Math.round(100 * m.share)} % of what would pass; the limit is ${m.source}`),
      ]),
      ["live differs by", figure(`${(1000 * c.live_to_linear_m).toFixed(1)} mm`, "at most, from what is handed over")],
    ),
    heatOf(b, c),
    c.sweep?.feet?.length ? feetSheet(c.sweep.feet) : null,
    c.sweep ? sweptSheet(b, c.sweep) : null,
    placesSheet(b, c),
    h("h3", {}, "Volume by limb"),
    figures(...limbs.slice(0, MOST).map(([k, v]) => [inWords(k), figure(signed(v))])),
    acts(
      button("Look at the worst", () => lookAtWorst(b, c), "small"),
      button("Who holds it", holder, "small"),
    ),
    limitsSheet(b, c),
  ];
}

/** The measures that are seen point by point. */
const SEEN = ["longest_edge", "shortest_edge", "distortion", "rough", "left_behind", "uneven"];

/** What the heat on the body shows. */
function heatOf(b, c) {
  const shown = (c.measures ?? []).filter((m) => SEEN.includes(m.key)).map((m) => [m.key, m.title]);
  const take = (key) => {
    b.heatOf = key;
    b.heat = true;
    b.showHeat();
    b.pose();
  };
  return pairs(["heat", select("What the heat shows", [["", "stretched or squeezed"], ...shown], b.heatOf, take)]);
}

/** How well feet that stand stay where they stand. */
const feetSheet = (feet) => [
  h("h3", {}, "Feet"),
  figures(
    ...feet.map((f) => [
      fullName(f.foot),
      h(
        "span",
        { class: "fig", title: "of the motion it stands; it slides by so much of its leg at most" },
        `${Math.round(100 * f.share)} % · ${(100 * f.slid).toFixed(2)} %`,
      ),
    ]),
  ),
];

/** What would just pass, measure by measure: the usual, or this character's own. */
function limitsSheet(b, c) {
  const set = (key) => (value) => b.step("trials.limits", { limits: { [key]: value } }, { keepPose: true });
  const field = (m) =>
    numberField(`What passes: ${m.title}`, Number(m.limit.toPrecision(4)), set(m.key), {
      step: "any",
      min: 0,
      empty: true,
    });
  return folded(
    b,
    "What passes",
    h("p", { class: "soft" }, "Emptied, a field is as usual again. Run the trials again to hold the cards to it."),
    pairs(...(c.measures ?? []).map((m) => [m.title, field(m)])),
  );
}

/** The worst places, numbered as on the body; a click goes there. */
function placesSheet(b, c) {
  if (!c.places?.length) return null;
  const go = (i) => {
    b.plate.numbered = b.plate.marked = c.places.map((p) => p.point);
    b.plate.lookAt(b.plate.pointPlace(c.places[i].point));
  };
  return [
    h("h3", {}, "Worst places"),
    h(
      "ol",
      { class: "places" },
      c.places.map((p, i) =>
        h(
          "li",
          { key: p.point },
          button(`${i + 1} · ${fullName(p.joint)}`, () => go(i), "small quiet"),
        ),
      ),
    ),
  ];
}

const DEGREES = 180 / Math.PI;

/** What the skin does over a joint's angle: volumes of the limbs that change most, or a measure. */
function sweptSheet(b, sweep) {
  const shown = b.ui.curve || "volumes",
    at = sweep.frames ?? sweep.angles.map((a) => a * DEGREES),
    i = sweep.names.indexOf(b.trial);
  const measures = b.strip.chosen()?.measures ?? [],
    m = measures.find((x) => x.key === shown);
  const most = (v) => Math.max(...v.map(Math.abs));
  const lines = m
    ? [{ name: m.title, values: sweep.measures[m.key] }]
    : Object.entries(sweep.volumes)
        .sort((x, y) => most(y[1]) - most(x[1]))
        .slice(0, 4)
        .map(([name, values]) => ({ name: inWords(name), values }));
  const go = (k) => {
    b.trial = sweep.names[k];
    b.strip.pose();
  };
  return [
    h("h3", {}, sweep.frames ? "Over the frames" : "Over the angle"),
    select(
      "What the curve shows",
      [["volumes", "volume by limb"], ...measures.map((x) => [x.key, x.title])],
      shown,
      (v) => (b.ui.curve = v),
    ),
    plot({
      at,
      lines,
      show: (v) => (m ? inItsUnit({ value: v, unit: m.unit }) : `${(100 * v).toFixed(0)} %`),
      limits: m ? [m.limit] : [],
      now: i < 0 ? null : at[i],
      go,
      unit: sweep.frames ? "" : "°",
      label: sweep.frames ? "The frame that is looked at" : "The angle that is looked at",
    }),
  ];
}

/** A measure's value as it is read. */
function inItsUnit({ value, unit }) {
  if (unit.startsWith("×")) return `× ${value.toFixed(2)}`;
  if (unit.startsWith("share")) return `${(100 * value).toFixed(1)} %`;
  return unit === "number" ? String(value) : `${value.toFixed(2)} ${unit}`;
}

function lookAtWorst(b, c) {
  const i = c.left_behind_points[0] ?? c.edge_stretch_point;
  b.plate.marked = c.left_behind_points.length ? c.left_behind_points : [c.edge_stretch_point];
  b.plate.lookAt(b.plate.pointPlace(i));
}

enterStation("trials", {
  fields: { curve: "", ...compareFields },
  large: "free",
  strip: true,
  heat: true,
  over: true,
  left,
  right,
});
