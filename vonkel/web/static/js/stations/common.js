// What the stations' sheets share: rows, fields, folds, findings with their mends, the hierarchy.
import { call, h, inWords, plainName, tag, toast } from "../dom.js";

export const ROLES = {
  skin: "skin",
  eye: "eye",
  teeth: "teeth",
  tongue: "tongue",
  rigid: "rigid part",
  prop: "prop",
  line: "drawn line",
};
export const pairs = (...rows) =>
  h(
    "dl",
    { class: "pairs" },
    rows.filter(Boolean).flatMap(([k, v]) => [h("dt", {}, k), h("dd", {}, v)]),
  );
/** Names, which may be long, with a short figure behind each. */
export const figures = (...rows) =>
  h(
    "dl",
    { class: "pairs figures" },
    rows.flatMap(([k, v]) => [h("dt", {}, k), h("dd", {}, v)]),
  );
export const button = (label, act, kind = "") => h("button", { class: kind, onclick: act }, label);

/** The findings of a station, each with its mend. */
export function findingCards(bench, station) {
  const found = bench.state.findings.filter((f) => station === "handover" || f.station === station);
  if (!found.length) return [h("h3", {}, "Findings here"), h("p", { class: "calm" }, "Nothing found.")];
  return [
    h("h3", {}, station === "handover" ? "All findings" : "Findings here"),
    ...found.map((f) => findingCard(bench, f)),
  ];
}

function findingCard(bench, f) {
  const acts = [];
  if (f.mend) acts.push(button(inWords(f.mend.label), () => bench.step(f.mend.step, f.mend.params), "mend small"));
  if (f.joints.length || f.points.length) acts.push(button("Show", () => showFinding(bench, f), "small"));
  if (bench.station !== f.station) acts.push(button("Go there", () => bench.go(f.station), "small"));
  return h(
    "div",
    { class: `finding ${f.level}` },
    h("strong", {}, inWords(f.title)),
    f.detail ? h("p", {}, inWords(f.detail)) : null,
    acts.length ? h("div", { class: "acts" }, acts) : null,
  );
}

function showFinding(bench, f) {
  if (f.joints.length) bench.selectJoint(f.joints[0]);
  bench.plate.marked = f.points;
  if (f.points.length) bench.plate.lookAt(bench.plate.pointPlace(f.points[0]));
  bench.plate.draw();
}

// -- lists ---------------------------------------------------------------------------------------------------------
export function filtered(bench, key, placeholder) {
  return h("input", {
    type: "search",
    placeholder,
    "data-keep": key,
    value: bench[key] ?? "",
    "aria-label": placeholder,
    oninput: (e) => {
      bench[key] = e.target.value;
      bench.sheets();
    },
  });
}

/** How many joints hang below each. */
function below(children) {
  const counts = new Map();
  const count = (j) => {
    const n = (children.get(j.name) ?? []).reduce((sum, k) => sum + 1 + count(k), 0);
    counts.set(j.name, n);
    return n;
  };
  for (const root of children.get(null) ?? []) count(root);
  return counts;
}

/** What is folded at first: of a large skeleton the right side, which is as the left, and rays of hands and feet. */
function firstFolded(joints, children) {
  const folded = new Set();
  if (joints.length <= 30) return folded;
  const named = new Map(joints.map((j) => [j.name, j]));
  for (const j of joints) {
    const kids = children.get(j.name) ?? [],
      above = named.get(j.parent);
    if (!kids.length) continue;
    if (j.side === "R" && above?.side !== "R") folded.add(j.name);
    else if (j.side === "L" && kids.filter((k) => k.deforms).length > 2) folded.add(j.name);
  }
  return folded;
}

/**
 * Joints in their hierarchy, which folds; `extra(joint)` adds what stands at the right of a row; `hang(joint, parent)`
 * takes
 * drops.
 * @param {any} bench @param {(joint: any) => any} [extra] @param {((joint: string, parent: string) => void) | null}
 * [hang]
 */
export function hierarchy(bench, extra = () => null, hang = null) {
  const { joints } = bench.state,
    children = group(joints),
    counts = below(children),
    words = (bench.jointFilter ?? "").toLowerCase(),
    rows = [];
  bench.folded ??= firstFolded(joints, children);
  bringIntoSight(bench, joints);
  const walk = (parent, depth) => {
    for (const joint of children.get(parent) ?? []) {
      const closed = !words && bench.folded.has(joint.name),
        more = counts.get(joint.name) ?? 0,
        fits = joint.name.toLowerCase().replaceAll("_", " ").includes(words);
      if (fits) rows.push(jointRow(bench, { joint, depth, closed, more, plain: !!words, beside: extra(joint), hang }));
      if (!closed) walk(joint.name, depth + 1);
    }
  };
  walk(null, 0);
  const holders = new Set(joints.filter((j) => counts.get(j.name) && j.parent).map((j) => j.name));
  const folds = holders.size && !words ? foldButtons(bench, holders) : null;
  return h("div", {}, folds, h("ul", { class: "rows joints", role: "tree", "aria-label": "Joints" }, rows));
}

/** What was just chosen is not folded away. */
function bringIntoSight(bench, joints) {
  if (bench.shownJoint === bench.plate.selected.joint) return;
  const named = new Map(joints.map((j) => [j.name, j]));
  bench.shownJoint = bench.plate.selected.joint;
  for (let j = named.get(named.get(bench.shownJoint)?.parent); j; j = named.get(j.parent)) bench.folded.delete(j.name);
}

function foldAway(bench, name, to) {
  if (to) bench.folded.add(name);
  else bench.folded.delete(name);
  bench.sheets();
}

function foldButtons(bench, holders) {
  const set = (words, folded) => {
    const act = () => {
      bench.folded = folded;
      bench.sheets();
    };
    return button(words, act, "small quiet");
  };
  const { size } = bench.folded;
  return h(
    "div",
    { class: "acts folds" },
    size ? set("Unfold all", new Set()) : null,
    size < holders.size ? set("Fold all", holders) : null,
  );
}

function jointRow(bench, { joint, depth, closed, more, plain, beside, hang }) {
  const { name } = joint;
  const turn = {
    class: "turn",
    tabindex: -1,
    "data-fold": name,
    "aria-expanded": String(!closed),
    title: closed ? `Show the ${more} below` : "Fold away what hangs below",
    "aria-label": `${closed ? "Unfold" : "Fold"} ${plainName(name)}`,
    onclick: () => foldAway(bench, name, !closed),
  };
  const row = {
    "aria-selected": String(bench.plate.selected.joint === name),
    "data-joint": name,
    "data-keep": `j-${name}`,
    onclick: () => bench.selectJoint(name),
    onkeydown: (e) => {
      if (!more || (e.key !== "ArrowLeft" && e.key !== "ArrowRight")) return;
      e.preventDefault();
      e.stopPropagation();
      foldAway(bench, name, e.key === "ArrowLeft");
    },
    ...(hang ? hanging(name, hang) : {}),
  };
  return h(
    "li",
    { style: `padding-left:${Math.min(depth, 12) * 7}px` },
    more && !plain ? h("button", turn, closed ? "+" : "–") : h("span", { class: "turn" }),
    h(
      "button",
      row,
      tag(joint.side),
      h("span", { class: joint.deforms ? "grow" : "grow helper" }, plainName(name)),
      closed && !beside ? h("span", { class: "soft fig" }, `+${more}`) : null,
      beside,
    ),
  );
}

/** A row that can be dragged on to another, to hang from it. */
function hanging(name, hang) {
  return {
    draggable: true,
    ondragstart: (e) => e.dataTransfer.setData("text/plain", name),
    ondragover: (e) => {
      e.preventDefault();
      e.currentTarget.classList.add("over");
    },
    ondragleave: (e) => e.currentTarget.classList.remove("over"),
    ondrop: (e) => {
      e.preventDefault();
      e.currentTarget.classList.remove("over");
      const from = e.dataTransfer.getData("text/plain");
      if (from && from !== name) hang(from, name);
    },
  };
}

function group(joints) {
  const map = new Map();
  for (const j of joints) map.set(j.parent, [...(map.get(j.parent) ?? []), j]);
  return map;
}

export const noJoints = (bench) => [
  h("p", { class: "empty" }, "No joints yet. A plan finds them by the shape; or draw chains yourself."),
  h(
    "div",
    { class: "acts" },
    button(
      "Choose a plan",
      () => {
        bench.go("joints");
        bench.openPlans();
      },
      "mend",
    ),
  ),
];

export const numberField = (label, value, unit, set, step = 0.1) =>
  h("input", {
    type: "number",
    value: String(value),
    step,
    title: unit,
    "aria-label": `${label}, ${unit}`,
    "data-keep": `n-${label}`,
    onchange: (e) => {
      if (e.target.value !== "") set(Number(e.target.value));
    },
  });

/** A part of a sheet that folds away; what was open stays open. */
export function fold(bench, title, ...inside) {
  bench.folds ??= new Map();
  const node = h(
    "details",
    { class: "fold", ontoggle: (e) => bench.folds.set(title, e.target.open) },
    h("summary", {}, title),
    ...inside,
  );
  if (bench.folds.get(title)) node.open = true;
  return node;
}

/** A field whose value is used when a button beside it is pressed. */
export const plain = (label, value, attributes = {}) =>
  h("input", { type: "number", value: String(value), "aria-label": label, "data-keep": `p-${label}`, ...attributes });

/** What is on or off, told apart from a choice by its lamp. */
export const switchButton = (label, on, act, title = "") =>
  h(
    "button",
    { class: "small switch", "aria-pressed": String(on), title: title || undefined, onclick: act },
    h("i", {}),
    label,
  );

/** A row of choices of which one is on. */
export const choices = (options, now, act) =>
  h(
    "div",
    { class: "choices" },
    Object.entries(options).map(([key, words]) =>
      h("button", { class: "small", "aria-pressed": String(key === now), onclick: () => act(key) }, words),
    ),
  );

/** Send files that belong together, with other fields, to a path of the character: one step. */
export async function upload(bench, path, files, extra = {}) {
  const data = new FormData();
  for (const file of files) data.append("file", file);
  data.set("step", String(bench.position().step));
  for (const [k, v] of Object.entries(extra)) data.set(k, v);
  try {
    await call("POST", `/api/c/${bench.number}/${path}`, data);
    await bench.refresh();
    toast(bench.state.last.sentence);
  } catch (error) {
    await bench.failed(error);
  }
}

/** A hidden file field and the button that opens it. */
export function fileButton(label, accept, act) {
  const file = h("input", {
    type: "file",
    accept,
    multiple: true,
    hidden: true,
    "aria-label": label,
    onchange: () => {
      if (file.files.length) act(...file.files);
    },
  });
  return [file, h("button", { class: "small", onclick: () => file.click() }, label)];
}
