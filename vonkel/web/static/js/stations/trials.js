// Trials: every pose with its figures.
import { fullName, h, inWords } from "../dom.js";
import { button, figures, pairs } from "./common.js";

// -- trials and handover -------------------------------------------------------------------------------------------
/** Why no pose can be tried, or nothing. */
export const noPoses = (b) =>
  b.state.skin && !b.state.trial_names.length && !b.state.poses.length
    ? "The poses are made for arms, legs, digits, a spine, a neck or a tail, and none of this body's joints is one. " +
      "Pose it at Limbs and save the pose: saved poses are tried, too."
    : "";

export const trials = {
  large: "free",
  strip: true,
  heat: true,
  left: (b) =>
    [
      h("h2", {}, "Poses"),
      ...(b.state.skin
        ? [
            h(
              "ul",
              { class: "rows" },
              (b.strip.cards.length ? b.strip.cards : b.state.trial_names.map((name) => ({ name }))).map((c) =>
                h(
                  "li",
                  {},
                  h(
                    "button",
                    {
                      "aria-selected": String(b.trial === c.name),
                      "data-keep": `t-${c.name}`,
                      onclick: () => b.strip.go(c),
                    },
                    c.grade ? h("span", { class: "fig" }, c.grade) : null,
                    h("span", { class: "grow" }, c.name),
                  ),
                ),
              ),
            ),
          ]
        : [h("p", { class: "empty" }, "Bind the skin first; then every pose can be tried.")]),
      b.state.skin && noPoses(b) ? h("p", { class: "empty" }, "None yet.") : null,
    ].filter(Boolean),
  right: (b) => {
    const c = b.strip.chosen();
    if (!c)
      return [
        h("h2", {}, "Figures"),
        h(
          "p",
          { class: "empty" },
          noPoses(b) ||
            (b.strip.cards.length
              ? "Choose a pose: the figure goes there, and the heat shows where it suffers."
              : "Run the trials, below."),
        ),
      ];
    const figure = (v, title) => h("span", { class: "fig", title }, v);
    return [
      h("h2", {}, c.name, " ", h("span", { class: "fig" }, c.grade)),
      h("p", { class: "soft" }, c.about),
      h("p", {}, `Worst: ${inWords(c.worst)}, at ${fullName(c.worst_joint)}.`),
      pairs(
        ...(c.measures ?? []).map((m) => [
          m.title,
          figure(inItsUnit(m), `${Math.round(100 * m.share)} % of what would pass`),
        ]),
        ["face area", figure(`× ${c.area_least.toFixed(2)} – ${c.area_most.toFixed(2)}`)],
        ["to linear", figure(`${(1000 * c.live_to_linear_m).toFixed(1)} mm`)],
      ),
      h("h3", {}, "Volume by limb"),
      figures(
        ...Object.entries(c.volume_change)
          .sort((x, y) => Math.abs(y[1]) - Math.abs(x[1]))
          .slice(0, 6)
          .map(([k, v]) => [inWords(k), figure(`${v >= 0 ? "+" : "−"}${Math.abs(100 * v).toFixed(1)} %`)]),
      ),
      h(
        "div",
        { class: "acts" },
        button("Look at the worst", () => lookAtWorst(b, c), "small"),
        button(
          "Who holds it",
          () => {
            b.go("skin");
            b.trial = c.name;
            b.selectJoint(c.worst_joint);
            b.pose();
          },
          "small",
        ),
      ),
    ];
  },
  dock: (b) => [
    {
      label: "Heat",
      on: b.heat,
      act: () => {
        b.heat = !b.heat;
        if (!b.heat) b.plate.setValues(null);
        b.legend(b.heat ? "how far edges are stretched or squeezed" : "", ["none", "", "×2"]);
        b.pose();
      },
    },
    {
      label: "Joints",
      on: b.plate.layers.joints,
      act: () => {
        b.plate.layers.joints = !b.plate.layers.joints;
        b.plate.draw();
      },
    },
    { label: "Back to rest", act: () => b.toRest() },
  ],
};

/** A measure's value as it is read. */
function inItsUnit({ value, unit }) {
  if (unit === "×") return `× ${value.toFixed(2)}`;
  if (unit === "share") return `${(100 * value).toFixed(1)} %`;
  return unit === "number" ? String(value) : `${value} ${unit}`;
}

function lookAtWorst(b, c) {
  const i = c.left_behind_points[0] ?? c.edge_stretch_point,
    p = b.plate.points;
  b.plate.marked = c.left_behind_points.length ? c.left_behind_points : [c.edge_stretch_point];
  b.plate.lookAt([p[3 * i], p[3 * i + 1], p[3 * i + 2]]);
}
