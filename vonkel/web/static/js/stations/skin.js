// Skin: who holds what.
import { call, fullName, h, say, spaced } from "../dom.js";
import { button, filtered, hierarchy, noJoints, pairs } from "./common.js";
import { poseDock } from "./posing.js";

export const skin = {
  large: "free",
  strip: true,
  layers: { controls: true },
  levels: new Set(["body"]),
  left: (b) => [
    h("h2", {}, "Who holds the skin"),
    ...(b.state.joints.length
      ? [
          filtered(b, "jointFilter", `Filter ${b.state.joints.length} joints …`),
          hierarchy(b, (j) =>
            b.state.skin?.holds[j.name] !== undefined
              ? h(
                  "span",
                  { class: "bar", title: "its share of the skin" },
                  h("i", { style: `width:${Math.max(6, 100 * Math.sqrt(b.state.skin.holds[j.name]))}%` }),
                )
              : null,
          ),
        ]
      : noJoints(b)),
  ],
  right: (b) => {
    const s = b.state.skin,
      n = h("input", {
        type: "number",
        value: String(s?.influences ?? 4),
        min: 1,
        max: 8,
        step: 1,
        "aria-label": "influences a point",
      });
    const fall = h("input", { type: "number", value: "5", min: 1, max: 12, step: 0.5, "aria-label": "falloff" });
    return [
      h("h2", {}, s ? "Under the hand" : "Binding"),
      ...(s ? underHand(b) : [h("p", { class: "empty" }, "The mesh follows nothing yet.")]),
      h("h3", {}, s ? "Bind again" : "Bind"),
      pairs(["influences", n], ["falloff", fall]),
      h(
        "div",
        { class: "acts" },
        button(
          s ? "Bind again" : "Bind through the volume",
          () =>
            b.step("skin.bind", {
              influences: Number(n.value),
              falloff: Number(fall.value),
              method: s?.method ?? "dual",
            }),
          s ? "small" : "mend",
        ),
      ),
      ...(s
        ? [
            h("h3", {}, "Deforming"),
            h(
              "div",
              { class: "acts" },
              [
                ["dual", "Dual quaternion"],
                ["linear", "Linear"],
              ].map(([m, t]) =>
                h(
                  "button",
                  {
                    class: "small",
                    "aria-pressed": String(s.method === m),
                    onclick: () => b.step("skin.method", { method: m }),
                  },
                  t,
                ),
              ),
            ),
          ]
        : []),
    ];
  },
  enter: (b) => {
    if (b.state.skin && b.plate.selected.joint) showWeights(b, b.plate.selected.joint);
  },
  picked: (b, name) => {
    if (b.state.skin) showWeights(b, name);
  },
  pickPoint: async (b, index) => {
    if (!b.state.skin) return;
    try {
      b.under = await call("GET", `/api/c/${b.number}/point/${index}`);
    } catch (error) {
      say(error);
      return;
    }
    b.plate.marked = [index];
    b.plate.draw();
    b.sheets();
  },
  dock: (b) => [...poseDock(b)],
};

function underHand(b) {
  if (!b.under?.weights.length)
    return [
      h("p", { class: "soft" }, "Choose a joint to see its reach, or click the skin to see who holds that point."),
    ];
  return [
    h(
      "p",
      { class: "soft" },
      `point ${spaced(b.under.point)} · ${b.under.weights.length} of ${b.state.skin.influences} influences`,
    ),
    ...b.under.weights.map((w) =>
      h(
        "div",
        { class: "weights-row" },
        h("span", {}, fullName(w.joint)),
        h("span", { class: "bar" }, h("i", { style: `width:${100 * w.weight}%` })),
        h("span", { class: "fig" }, w.weight.toFixed(2)),
      ),
    ),
  ];
}

// -- skin ----------------------------------------------------------------------------------------------------------
async function showWeights(b, joint) {
  try {
    const response = await fetch(`/api/c/${b.number}/weights/${encodeURIComponent(joint)}`);
    if (!response.ok) throw (await response.json()).error;
    b.plate.setValues(new Float32Array(await response.arrayBuffer()));
    b.legend(`weight of ${fullName(joint)}`);
  } catch (error) {
    say(error);
  }
}
