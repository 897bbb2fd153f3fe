// The joints in their hierarchy, which folds.
import { plainName } from "../words.js";
import { acts, button } from "./fields.js";
import { h, tag } from "./html.js";

const LARGE = 30; // joints: from here on much is folded at first
const INDENT = 7,
  DEEPEST = 12; // pixels a level, and levels that are told apart

/** What the hierarchy keeps in the store. */
export const hierarchyFields = {
  jointFilter: "",
  /** @type {Set<string> | null} */
  folded: null,
  shownJoint: "",
};

/** The field that filters it. */
export function filtered(bench, placeholder) {
  return h("input", {
    type: "search",
    class: "form-control form-control-sm",
    placeholder,
    value: bench.ui.jointFilter,
    "aria-label": placeholder,
    oninput: (e) => {
      bench.ui.jointFilter = e.target.value;
    },
  });
}

function childrenOf(joints) {
  const map = new Map();
  for (const j of joints) {
    const list = map.get(j.parent);
    if (list) list.push(j);
    else map.set(j.parent, [j]);
  }
  return map;
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
  if (joints.length <= LARGE) return folded;
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
 * Joints in their hierarchy; `extra(joint)` adds what stands at the right of a row; `hang(joint, parent)` takes drops.
 * @param {any} bench @param {(joint: any) => any} [extra]
 * @param {((joint: string, parent: string) => void) | null} [hang]
 */
export function hierarchy(bench, extra = () => null, hang = null) {
  const { joints } = bench.state,
    { ui } = bench,
    children = childrenOf(joints),
    counts = below(children),
    words = ui.jointFilter.toLowerCase(),
    rows = [];
  const folded = inSight(bench, ui.folded ?? (ui.folded = firstFolded(joints, children)));
  const walk = (parent, depth) => {
    for (const joint of children.get(parent) ?? []) {
      const closed = !words && folded.has(joint.name),
        more = counts.get(joint.name) ?? 0,
        fits = joint.name.toLowerCase().replaceAll("_", " ").includes(words);
      if (fits) rows.push(jointRow(bench, { joint, depth, closed, more, plain: !!words, beside: extra(joint), hang }));
      if (!closed) walk(joint.name, depth + 1);
    }
  };
  walk(null, 0);
  const holders = new Set(joints.filter((j) => counts.get(j.name) && j.parent).map((j) => j.name));
  return h(
    "div",
    {},
    holders.size && !words ? foldButtons(ui, holders) : null,
    h("ul", { class: "rows joints", role: "tree", "aria-label": "Joints" }, rows),
  );
}

/** What was just chosen is not folded away. */
function inSight(bench, folded) {
  const { ui } = bench,
    chosen = bench.plate.selected.joint;
  if (ui.shownJoint === chosen) return folded;
  ui.shownJoint = chosen;
  const named = new Map(bench.state.joints.map((j) => [j.name, j]));
  for (let j = named.get(named.get(chosen)?.parent); j; j = named.get(j.parent)) folded.delete(j.name);
  return folded;
}

function foldButtons(ui, holders) {
  const set = (words, folded) =>
    button(
      words,
      () => {
        ui.folded = folded;
      },
      "small quiet",
    );
  const { size } = ui.folded;
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
    type: "button",
    class: "turn",
    tabindex: -1,
    "data-fold": name,
    "aria-expanded": String(!closed),
    title: closed ? `Show the ${more} below` : "Fold away what hangs below",
    "aria-label": `${closed ? "Unfold" : "Fold"} ${plainName(name)}`,
    onclick: () => bench.ui.put("folded", name, !closed),
  };
  const row = {
    type: "button",
    "aria-selected": String(bench.plate.selected.joint === name),
    "data-joint": name,
    onclick: () => bench.selectJoint(name),
    onkeydown: (e) => {
      if (!more || (e.key !== "ArrowLeft" && e.key !== "ArrowRight")) return;
      e.preventDefault();
      e.stopPropagation();
      bench.ui.put("folded", name, e.key === "ArrowLeft");
    },
    ...(hang ? hanging(name, hang) : {}),
  };
  return h(
    "li",
    { key: name, style: `padding-left:${Math.min(depth, DEEPEST) * INDENT}px` },
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

/** What stands there while there are none. */
export const noJoints = (bench) => [
  h("p", { class: "empty" }, "No joints yet. A plan finds them by the shape; or draw chains yourself."),
  acts(
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
