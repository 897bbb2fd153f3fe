// The Trials station: every pose with its figures.
import { enterStation } from "../app/stations.js";
import { noPoses } from "../app/strip.js";
import { acts, button, figures, pairs } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { fullName, inWords } from "../words.js";

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
        h("span", { class: "grow" }, c.name),
      ),
    );
  return [
    h("h2", {}, "Poses"),
    h("ul", { class: "rows" }, cards.map(row)),
    noPoses(b) ? h("p", { class: "empty" }, "None yet.") : null,
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
    h("h2", {}, c.name, " ", h("span", { class: "fig" }, c.grade)),
    h("p", { class: "soft" }, c.about),
    h("p", {}, `Worst: ${inWords(c.worst)}, at ${fullName(c.worst_joint)}.`),
    pairs(
      ...(c.measures ?? []).map((m) => [
        m.title,
        figure(inItsUnit(m), `${Math.round(100 * m.share)} % of what would pass; the limit is ${m.source}`),
      ]),
      ["face area", figure(`× ${c.area_least.toFixed(2)} – ${c.area_most.toFixed(2)}`)],
      ["live differs by", figure(`${(1000 * c.live_to_linear_m).toFixed(1)} mm`, "at most, from what is handed over")],
    ),
    h("h3", {}, "Volume by limb"),
    figures(...limbs.slice(0, MOST).map(([k, v]) => [inWords(k), figure(signed(v))])),
    acts(
      button("Look at the worst", () => lookAtWorst(b, c), "small"),
      button("Who holds it", holder, "small"),
    ),
  ];
}

/** A measure's value as it is read. */
function inItsUnit({ value, unit }) {
  if (unit === "×") return `× ${value.toFixed(2)}`;
  if (unit === "share") return `${(100 * value).toFixed(1)} %`;
  return unit === "number" ? String(value) : `${value} ${unit}`;
}

function lookAtWorst(b, c) {
  const i = c.left_behind_points[0] ?? c.edge_stretch_point;
  b.plate.marked = c.left_behind_points.length ? c.left_behind_points : [c.edge_stretch_point];
  b.plate.lookAt(b.plate.pointPlace(i));
}

enterStation("trials", { large: "free", strip: true, heat: true, over: true, left, right });
