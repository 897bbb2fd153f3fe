// The Skin station: who holds what, what moves that should not, and mending it.
import { enterStation } from "../app/stations.js";
import { call } from "../net/api.js";
import { acts, button, chosenButton, fileButton, numberField, pairs, switchButton } from "../widgets/fields.js";
import { filtered, hierarchy, noJoints } from "../widgets/hierarchy.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say, toast } from "../widgets/toasts.js";
import { called, fullName, inWords, spaced } from "../words.js";
import { folding } from "./common.js";
import { behindFields, behindList } from "./behind.js";
import { howBoundFields, howBoundList } from "./howbound.js";
import { MAPS, showMap } from "./skinmaps.js";
import { loadStrays, strayFields, strayList } from "./strays.js";
import { loadRows } from "./weights.js";

const METHODS = { dual: "Dual quaternion", linear: "Linear", mixed: "Painted blend" };

/** A joint's share of the skin, as a bar; a lock where it is locked. */
function share(b, j) {
  const { skin } = b.state,
    held = skin?.holds[j.name];
  if (held === undefined) return null;
  const wide = Math.max(6, 100 * Math.sqrt(held)),
    locked = skin.locked.includes(j.name);
  return [
    locked ? h("span", { class: "soft", title: "Its weights are locked" }, "locked") : null,
    h("span", { class: "bar", title: "its share of the skin" }, h("i", { style: `width:${wide}%` })),
  ];
}

function binding(b, skin) {
  const form = stepForm(b, "skin.bind", {
    label: skin ? "Bind again" : "Bind",
    kind: skin ? "small" : "mend",
    fields: {
      influences: "influences",
      falloff: "falloff",
      by: "how",
      cells: "cells (0: chosen)",
      eased: "ease it for poses",
    },
    values: { influences: skin?.influences ?? 4 },
    fixed: () => ({ method: skin?.method ?? "dual", falloffs: b.ui.falloffs }),
    more: { influences: { "aria-label": "influences a point" } },
  });
  return [form, ownFalloffs(b)];
}

/** How sharply single joints fade: the chosen one's, and those that were said before. */
function ownFalloffs(b) {
  const { falloffs } = b.ui,
    { joint } = b.plate.selected,
    names = [...new Set([...(joint ? [joint] : []), ...Object.keys(falloffs)])];
  const set = (name) => (v) => {
    const other = b.symmetry ? b.state.joints.find((j) => j.name === name)?.partner : "";
    b.ui.falloffs = Object.fromEntries(
      Object.entries({ ...falloffs, [name]: v, ...(other ? { [other]: v } : {}) }).filter(([, by]) => by && by !== 1),
    );
  };
  const field = (name) =>
    numberField(`how sharply ${fullName(name)} fades`, falloffs[name] ?? 1, set(name), { min: 0.2, max: 5, step: 0.1 });
  return names.length
    ? [
        h("p", { class: "soft" }, "Sharper (above 1) or softer, joint by joint:"),
        pairs(...names.map((n) => [fullName(n), field(n)])),
      ]
    : null;
}

function right(b) {
  const { skin } = b.state;
  if (!skin)
    return [
      h("h2", {}, "Binding"),
      h("p", { class: "empty" }, "The mesh follows nothing yet."),
      h("h3", {}, "Bind"),
      binding(b, skin),
      howBoundList(b),
    ];
  const deform = ([method, words]) =>
    chosenButton(words, skin.method === method, () => b.step("skin.method", { method }));
  const show = ([kind, words]) =>
    chosenButton(words, b.ui.skinMap === kind, () => {
      b.ui.skinMap = kind;
      showMap(b);
    });
  return [
    h("h2", {}, "Shown on the skin"),
    acts(Object.entries(MAPS).map(show)),
    acts(
      switchButton("Wires", !!b.plate.drawn.wires, () => {
        b.plate.drawn.setWires(!b.plate.drawn.wires);
        b.look();
      }),
      b.ui.skinMap === "joint" && b.plate.selected.joint
        ? switchButton("Its reach alone", b.ui.alone, () => {
            b.ui.alone = !b.ui.alone;
            b.plate.drawn.setAlone(b.ui.alone);
            b.look();
          })
        : null,
    ),
    h("h2", {}, "Under the hand"),
    underHand(b),
    worstPlace(b),
    strayList(b),
    behindList(b),
    folding(b, "skin-whole", "The whole skin", wholeSkin(b)),
    folding(b, "skin-bind", "Bind again", [binding(b, skin), howBoundList(b)]),
    folding(b, "skin-deform", "Deforming", [
      acts(Object.entries(METHODS).map(deform)),
      stepForm(b, "skin.after", {
        label: "Smooth",
        fields: { rounds: "smoothing, rounds", by: "evened" },
        values: { rounds: skin.smoothing || 8, by: skin.smoothing ? skin.smoother : "beforehand" },
        beside: skin.smoothing ? button("Don't smooth", () => b.step("skin.after", { rounds: 0 }), "small") : null,
      }),
    ]),
  ];
}

/** Weights from a file; the points that aren't sure of theirs are chosen, so that they can be looked at and mended. */
async function takeWeights(b, files) {
  const told = await b.upload("skin/weights", files);
  if (!told?.unsure.length) return;
  b.useTool("choose");
  /** @type {any} */ (b.tool).choose(told.unsure);
  toast(`${told.unsure.length} points aren't sure of what they were given: they are chosen.`);
}

/** Of the pose that is looked at: its worst place, and the brush there, in one click. */
function worstPlace(b) {
  const card = b.strip.now.get(b.trial) ?? b.strip.chosen();
  if (!card) return null;
  const go = () => {
    b.ui.skinMap = "joint";
    b.selectJoint(card.worst_joint);
    b.plate.marked = [card.worst_point];
    b.plate.lookAt(b.plate.pointPlace(card.worst_point));
    b.useTool("brush");
    b.tool.take("even");
  };
  return [
    h("h3", {}, `Worst in “${called(card)}”`),
    h("p", {}, `${inWords(card.worst)}, at ${fullName(card.worst_joint)}.`),
    acts(button("Brush there", go, "small mend")),
  ];
}

function wholeSkin(b) {
  const saved = (kind) =>
    h(
      "a",
      { class: "btn btn-plain btn-sm", href: `/api/c/${b.number}/skin/weights.${kind}`, download: "" },
      `Save .${kind}`,
    );
  const parts = b.state.parts.map((p) => [p.name, p.name]);
  return [
    acts(
      saved("json"),
      saved("csv"),
      fileButton("Take from a file", ".json,.csv", (...files) => takeWeights(b, files)),
    ),
    parts.length > 1
      ? stepForm(b, "skin.from_part", { label: "Take from the part beside it", fields: { part: "part", source: "as" } })
      : null,
    acts(
      button("Left to right", () => b.step("skin.mirror", { side: "left" }), "small", {
        title: "Mirror the left side's weights",
      }),
      button("Right to left", () => b.step("skin.mirror", { side: "right" }), "small"),
      button("Even out a little", () => b.step("skin.even", { share: 0.5, rounds: 1 }), "small"),
    ),
    stepForm(b, "skin.prune", { label: "Drop small ones", fields: { least: "below", influences: "most (0: as now)" } }),
    stepForm(b, "skin.round", { label: "Round", fields: { steps: "to one over" } }),
  ];
}

function underHand(b) {
  const { under } = b.ui;
  if (!under?.weights.length)
    return h("p", { class: "soft" }, "Choose a joint to see its reach, or click the skin to see who holds that point.");
  const row = (w) =>
    h(
      "div",
      { class: "weights-row", key: w.joint },
      h("span", {}, fullName(w.joint)),
      h("span", { class: "bar" }, h("i", { style: `width:${100 * w.weight}%` })),
      h("span", { class: "fig" }, w.weight.toFixed(2)),
    );
  const about = `point ${spaced(under.point)} · ${under.weights.length} of ${b.state.skin.influences} influences`;
  return [h("p", { class: "soft" }, about), under.weights.map(row)];
}

async function pickPoint(b, index) {
  if (!b.state.skin) return;
  try {
    b.ui.under = await call("GET", `/api/c/${b.number}/point/${index}`);
  } catch (error) {
    say(error);
    return;
  }
  b.plate.marked = [index];
  b.plate.draw();
}

function shown(b) {
  showMap(b);
  if (!b.state.skin) return;
  loadStrays(b);
  loadRows(b);
}

enterStation("skin", {
  large: "free",
  strip: true,
  keepsValues: (b) => !!b.state.skin && (b.ui.skinMap !== "joint" || !!b.plate.selected.joint),
  layers: { controls: true },
  levels: new Set(["body"]),
  fields: {
    under: null,
    skinMap: "joint",
    alone: false,
    falloffs: {},
    ...strayFields,
    chosenPoints: [],
    rows: null,
    rowSort: null,
    ...behindFields,
    ...howBoundFields,
  },
  left: (b) => [
    h("h2", {}, "Who holds the skin"),
    b.state.joints.length
      ? [filtered(b, `Filter ${b.state.joints.length} joints …`), hierarchy(b, (j) => share(b, j))]
      : noJoints(b),
  ],
  right,
  leave: (b) => {
    b.plate.drawn.setWires(false);
    b.plate.drawn.setAlone(false);
    b.ui.alone = false;
  },
  shown,
  picked: (b, name) => {
    showMap(b);
    b.tool?.pick?.(name);
  },
  pickPoint,
});
