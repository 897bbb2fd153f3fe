// The Skin station: who holds what.
import { enterStation } from "../app/stations.js";
import { call } from "../net/api.js";
import { acts, chosenButton } from "../widgets/fields.js";
import { filtered, hierarchy, noJoints } from "../widgets/hierarchy.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say } from "../widgets/toasts.js";
import { fullName, spaced } from "../words.js";

const METHODS = { dual: "Dual quaternion", linear: "Linear" };

/** A joint's share of the skin, as a bar. */
function share(b, j) {
  const held = b.state.skin?.holds[j.name];
  if (held === undefined) return null;
  const wide = Math.max(6, 100 * Math.sqrt(held));
  return h("span", { class: "bar", title: "its share of the skin" }, h("i", { style: `width:${wide}%` }));
}

function binding(b, skin) {
  return stepForm(b, "skin.bind", {
    label: skin ? "Bind again" : "Bind",
    kind: skin ? "small" : "mend",
    fields: { influences: "influences", falloff: "falloff", by: "how", cells: "cells (0: chosen)" },
    values: { influences: skin?.influences ?? 4 },
    fixed: { method: skin?.method ?? "dual" },
    more: { influences: { "aria-label": "influences a point" } },
  });
}

function right(b) {
  const { skin } = b.state;
  if (!skin)
    return [
      h("h2", {}, "Binding"),
      h("p", { class: "empty" }, "The mesh follows nothing yet."),
      h("h3", {}, "Bind"),
      binding(b, skin),
    ];
  const deform = ([method, words]) =>
    chosenButton(words, skin.method === method, () => b.step("skin.method", { method }));
  return [
    h("h2", {}, "Under the hand"),
    underHand(b),
    h("h3", {}, "Bind again"),
    binding(b, skin),
    h("h3", {}, "Deforming"),
    acts(Object.entries(METHODS).map(deform)),
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

async function showWeights(b, joint) {
  try {
    const response = await fetch(`/api/c/${b.number}/weights/${encodeURIComponent(joint)}`);
    if (!response.ok) throw (await response.json()).error;
    b.plate.setValues(new Float32Array(await response.arrayBuffer()));
    b.legend = { title: `weight of ${fullName(joint)}` };
  } catch (error) {
    say(error);
  }
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

const showChosen = (b) => {
  if (b.state.skin && b.plate.selected.joint) showWeights(b, b.plate.selected.joint);
};

enterStation("skin", {
  large: "free",
  strip: true,
  keepsValues: (b) => !!b.state.skin && !!b.plate.selected.joint,
  layers: { controls: true },
  levels: new Set(["body"]),
  fields: { under: null },
  left: (b) => [
    h("h2", {}, "Who holds the skin"),
    b.state.joints.length
      ? [filtered(b, `Filter ${b.state.joints.length} joints …`), hierarchy(b, (j) => share(b, j))]
      : noJoints(b),
  ],
  right,
  shown: showChosen,
  picked: showChosen,
  pickPoint,
});
