// The Skin station: who holds what, what moves that should not, and mending it.
import { enterStation } from "../app/stations.js";
import { call } from "../net/api.js";
import { acts, button, chosenButton, fileButton, fold, switchButton } from "../widgets/fields.js";
import { filtered, hierarchy, noJoints } from "../widgets/hierarchy.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say } from "../widgets/toasts.js";
import { fullName, inWords, spaced } from "../words.js";
import { behindFields, behindList } from "./behind.js";
import { loadRows } from "./weights.js";

const METHODS = { dual: "Dual quaternion", linear: "Linear", mixed: "Painted blend" };
const MAPS = { joint: "One joint", inks: "All joints", count: "How many", jump: "Jumps", blend: "Blend" };
const FEW = 5; // rows of what moves that should not, before one asks for more
const JUMP = 0.5; // a weight that changes by as much over one edge is shown in full

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
  return stepForm(b, "skin.bind", {
    label: skin ? "Bind again" : "Bind",
    kind: skin ? "small" : "mend",
    fields: { influences: "influences", falloff: "falloff", by: "how", cells: "cells (0: chosen)" },
    values: { influences: skin?.influences ?? 4 },
    fixed: { method: skin?.method ?? "dual" },
    more: { influences: { "aria-label": "influences a point" } },
  });
}

/** A part of the sheet that folds away. */
const folding = (b, key, title, draw) =>
  fold({ key, title, open: b.ui.open.has(key), act: (on) => b.ui.put("open", key, on) }, draw);

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
    folding(b, "skin-bind", "Bind again", binding(b, skin)),
    folding(b, "skin-deform", "Deforming", [
      acts(Object.entries(METHODS).map(deform)),
      stepForm(b, "skin.after", {
        label: "Smooth",
        fields: { rounds: "smoothing after, rounds" },
        values: { rounds: skin.smoothing || 8 },
        beside: skin.smoothing ? button("Don't smooth", () => b.step("skin.after", { rounds: 0 }), "small") : null,
      }),
    ]),
  ];
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
    h("h3", {}, `Worst in “${card.name}”`),
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
      fileButton("Take from a file", ".json,.csv", (...files) => b.upload("skin/weights", files)),
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

// -- what joints move that they should not -----------------------------------------------------------------------
function strayList(b) {
  const { strays, allStrays } = b.ui;
  if (!strays) return null;
  const chosen = b.plate.selected.joint,
    own = chosen ? strays.filter((s) => s.joint === chosen) : [],
    list = onceASide(b, own.length ? own : strays),
    few = allStrays ? list : list.slice(0, FEW);
  const title = own.length ? `${fullName(chosen)} moves also` : "Reached by what should keep off";
  const none = "Nothing: every joint keeps to its own.";
  if (!strays.length) return [h("h3", {}, title), h("p", { class: "fine" }, none)];
  return [
    h("h3", {}, title),
    few.map((s) => strayRow(b, s)),
    list.length > few.length
      ? acts(
          button(
            `${list.length - few.length} more`,
            () => {
              b.ui.allStrays = true;
            },
            "small quiet",
          ),
        )
      : null,
  ];
}

const otherSide = (words) => words.replace(/[ _][LR]$/, (t) => t[0] + { L: "R", R: "L" }[t[1]]);

/** With both sides at once, what is the same on the other side stands in the list once. */
function onceASide(b, list) {
  if (!b.symmetry) return list;
  const seen = new Map();
  for (const s of list) {
    const twin = seen.get(`${otherSide(s.joint)}|${otherSide(s.where)}`);
    if (twin) twin.both = true;
    else seen.set(`${s.joint}|${s.where}`, { ...s, both: false });
  }
  return [...seen.values()];
}

/** What the trials say of a mend: how much less skin is strained there. */
const calmerWords = (by) =>
  by > 0.02
    ? `. Off, it is calmer by ${Math.round(Math.min(100 * by, 100))} %.`
    : ". Off, it is no calmer: it fades well here.";

function strayRow(b, s) {
  const where = s.where.startsWith("patches") ? s.where : `on the ${fullName(s.where.replace(/ ([LR])$/, "_$1"))}`;
  return h(
    "div",
    { class: "stray", key: `${s.joint} ${s.where}`, "data-stray": `${s.joint}|${s.where}` },
    h(
      "p",
      {},
      h("strong", {}, fullName(s.joint)),
      ` moves ${spaced(s.count)} points ${where}, up to ${s.most.toFixed(2)}`,
      s.both ? "; so on the other side" : "",
      s.calmer === undefined ? "" : calmerWords(s.calmer),
    ),
    acts(
      button("Show", () => showStray(b, s), "small"),
      button(
        "Take it off",
        () => b.step("skin.keep_off", { joint: s.joint, where: s.where, both_sides: b.symmetry }),
        "small mend",
      ),
      button("Brush it", () => brushStray(b, s), "small"),
    ),
  );
}

function showStray(b, s) {
  b.ui.skinMap = "joint";
  b.selectJoint(s.joint);
  b.plate.marked = s.points;
  b.plate.lookAt(b.plate.pointPlace(s.points[Math.floor(s.points.length / 2)]));
}

/** The brush in the hand, taking this joint's weight away, and the place in sight. */
function brushStray(b, s) {
  showStray(b, s);
  b.useTool("brush");
  b.tool.kind = "take";
  b.touch("tool");
}

let asked = 0;

async function loadStrays(b) {
  const mine = ++asked;
  try {
    const strays = await call("GET", `/api/c/${b.number}/skin/strays`);
    if (mine !== asked) return;
    b.ui.strays = strays;
    if (!strays.length) return;
    const worth = await call("GET", `/api/c/${b.number}/skin/strays/worth`);
    const calmer = new Map(worth.map((w) => [`${w.joint}|${w.where}`, w.calmer]));
    if (mine === asked) b.ui.strays = strays.map((s) => ({ ...s, calmer: calmer.get(`${s.joint}|${s.where}`) }));
  } catch (error) {
    say(error);
  }
}

// -- maps ------------------------------------------------------------------------------------------------------------
const LEGENDS = {
  count: (b) => ({ title: "joints that hold a point", labels: ["0", "", "", "", String(b.state.skin.influences)] }),
  blend: () => ({ title: "how much deforms by dual quaternions", labels: ["linear", "", "½", "", "dual"] }),
  jump: () => ({ title: "how far a weight jumps to the next point", labels: ["0", "", "¼", "", "½"] }),
};

async function bytes(path) {
  const response = await fetch(path);
  if (!response.ok) throw (await response.json()).error;
  return response.arrayBuffer();
}

/** Colour the mesh by what is to be shown; what comes late is left if something else was asked meanwhile. */
async function showMap(b) {
  const { skinMap } = b.ui,
    { joint } = b.plate.selected,
    path = `/api/c/${b.number}`;
  if (!b.state.skin || (skinMap === "joint" && !joint)) return;
  const current = () => b.station === "skin" && b.ui.skinMap === skinMap && b.plate.selected.joint === joint;
  try {
    if (skinMap === "inks") {
      const data = new Uint8Array(await bytes(`${path}/skin/map/inks`));
      if (!current()) return;
      b.plate.setInks(data);
      b.legend = { title: "every joint in an ink of its own", plain: true };
      return;
    }
    const data = new Float32Array(
      await bytes(skinMap === "joint" ? `${path}/weights/${encodeURIComponent(joint)}` : `${path}/skin/map/${skinMap}`),
    );
    if (!current()) return;
    const scale = { joint: 1, count: 1 / b.state.skin.influences, jump: 1 / JUMP, blend: 1 }[skinMap];
    b.plate.setValues(scale === 1 ? data : data.map((v) => v * scale));
    b.legend = skinMap === "joint" ? { title: `weight of ${fullName(joint)}` } : LEGENDS[skinMap](b);
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
    strays: null,
    allStrays: false,
    chosenPoints: [],
    rows: null,
    rowSort: null,
    ...behindFields,
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
