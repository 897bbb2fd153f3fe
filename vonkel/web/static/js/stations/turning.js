// How a joint is turned: which axis runs down its bone, what its hinge follows, in which order it rotates.
import { call } from "../net/api.js";
import { acts, button, chosenButton, choices, pairs, select, textField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { plainName } from "../words.js";

const RULES = {
  bend: "the plane of the bend",
  up: "level, third axis up",
  "world x": "the world's x",
  "world y": "the world's y",
  "world z": "the world's z",
  copy: "another joint's",
  keep: "as it is",
};
const AXES = ["x", "y", "z", "-x", "-y", "-z"].map((a) => [a, a.replace("-", "−")]);

/** What this page keeps in the store. */
export const turnFields = {
  turning: { rule: "bend", chain: false, like: "" },
  /** @type {{ of: string, margins: Record<string, number> | null }} */
  gimbal: { of: "", margins: null },
};

export function turnTab(b, j, child) {
  const t = b.ui.turning;
  const choose = (change) => {
    b.ui.turning = { ...t, ...change };
  };
  const apply = (extra = {}) =>
    b.step("joints.orient", {
      joints: [j.name],
      rule: t.rule,
      like: t.rule === "copy" ? t.like : "",
      down_chain: t.chain,
      both_sides: b.symmetry,
      ...extra,
    });
  const axis = (label, now, act) => select(label, AXES, now, act);
  const showAxes = () => {
    b.plate.axesShown = true;
    b.look();
  };
  return [
    pairs(
      ["bone", child ? `runs to ${plainName(child.name)}` : "as its parent"],
      ["down the bone", axis("axis down the bone", j.aim, (aim) => apply({ rule: "keep", aim }))],
      ["hinge", axis("hinge axis", j.hinge, (hinge) => apply({ rule: "keep", hinge }))],
      ["hinge follows", select("what the hinge follows", RULES, t.rule, (rule) => choose({ rule }))],
      t.rule === "copy"
        ? ["of", textField("copy from", t.like, (like) => choose({ like }), { list: "joint-names", maxlength: 80 })]
        : null,
    ),
    choices({ one: "this joint", chain: "and all below" }, t.chain ? "chain" : "one", (k) =>
      choose({ chain: k === "chain" }),
    ),
    acts(
      button("Turn it so", () => apply(), "mend small"),
      button("Turn the hinge round", () => apply({ rule: "keep", flip: true }), "small"),
      b.plate.axesShown ? null : button("Show axes", showAxes, "small"),
    ),
    h("h3", {}, "Rotation order"),
    orders(b, j),
  ];
}

/** Ask once for a joint's margins at this step. */
function load(b, of, joint) {
  b.ui.gimbal = { of, margins: null };
  call("GET", `/api/c/${b.number}/gimbal/${encodeURIComponent(joint)}`)
    .then((margins) => {
      if (b.ui.gimbal.of === of) b.ui.gimbal = { of, margins };
    })
    .catch(say);
}

/** How far each order keeps from gimbal lock over the joint's range. */
function orders(b, j) {
  const of = `${b.position().step} ${j.name}`;
  if (b.ui.gimbal.of !== of) load(b, of, j.name);
  const { margins } = b.ui.gimbal;
  if (!margins) return h("p", { class: "soft" }, "Measuring …");
  const set = (order) => b.step("joints.set", { joint: j.name, order, both_sides: b.symmetry });
  return [
    Object.entries(margins).map(([order, d]) =>
      h(
        "div",
        { class: "gimbal", key: order },
        chosenButton(order, order === j.order, () => set(order)),
        h("span", { class: "bar" }, h("i", { style: `width:${Math.max(3, (100 * d) / 90)}%` })),
        h("span", { class: "fig" }, `${d.toFixed(0)}°`),
      ),
    ),
    h("p", { class: "soft" }, "degrees kept from lock over the range; 0 is locked"),
  ];
}
