// What joints move that they should not: a list, with the mend beside each row and what the trials say of it.
import { call } from "../net/api.js";
import { acts, button } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { fullName, spaced } from "../words.js";

const FEW = 5; // rows, before one asks for more

export const strayFields = { strays: null, allStrays: false };

/** The list on the sheet. */
export function strayList(b) {
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
        s.calmer > 0.02 ? "small mend" : "small",
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

/** Ask for the list, then for what each mend is worth. */
export async function loadStrays(b) {
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
