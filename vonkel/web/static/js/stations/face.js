// The Face station: what is where, put right by hand; the face made from it; eyes, lids, jaw and the mouth pad.
import { actionButton } from "../app/actions.js";
import { enterStation } from "../app/stations.js";
import { call } from "../net/api.js";
import { acts, button, choices, form, own, pairs, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { eyeSheet } from "./eyesheet.js";
import { chosenMark, markList, markSheet, showMarkMap } from "./facemarks.js";
import { joinHead } from "./joinhead.js";
import { channelSheet, poseSheet } from "./posing.js";

/** Make joints, weights, shapes and controls from the marks, with progress. */
export async function makeFace(b) {
  try {
    const { job } = await call("POST", `/api/c/${b.number}/face/make`);
    await b.watchJob(job);
    await b.refresh();
    b.useTool(null);
    b.ui.mark = "";
    showMarkMap(b);
    const jaw = b.state.controls.find((c) => c.key === "jaw") ?? b.state.controls.find((c) => c.level === "face");
    if (jaw) b.choose({ control: jaw.name });
  } catch (error) {
    say(error);
  }
}

const find = (b, afresh) => async () => {
  if (await b.step("face.find", { afresh }, { keepPose: true })) b.useTool("marks");
};

function products(b) {
  const { products: rows, marks } = b.state.face;
  if (!marks.length) return null;
  const stale = rows.some((p) => p.stale),
    made = rows.some((p) => p.made);
  return [
    h("h3", {}, "From the marks"),
    h(
      "ul",
      { class: "products" },
      rows.map((p) =>
        h(
          "li",
          { key: p.name, class: p.stale ? "stale" : p.made ? "made" : "" },
          h("span", {}, p.label),
          h("em", {}, p.stale ? "marks have moved since" : p.made ? "made" : "not yet"),
        ),
      ),
    ),
    made && stale ? h("p", { class: "soft" }, "What you sculpted or painted on it stays when it is made again.") : null,
    acts(button(made ? "Make it again" : "Make the face", () => makeFace(b), stale || !made ? "mend" : "small")),
  ];
}

/** Plain eyes for a head without its own, or such as were built before. */
function builtEyes(b) {
  const there = b.state.parts.some((p) => p.role === "lid"),
    seen = b.state.face.eyeballs || b.state.parts.some((p) => p.role === "eye"),
    marked = b.state.face.marks.some((m) => m.name === "eye_L" || m.name === "eye_R");
  if (!marked || (seen && !there)) return null;
  const build = ({ centimetres, upper, lower }) =>
    b.step("face.build_eyes", { centimetres, upper, lower }, { keepPose: true });
  return [
    h("h3", {}, "Plain eyes"),
    h(
      "p",
      { class: "soft" },
      there ? "Built here." : "It has none of its own: a ball with two lids where each mark is.",
    ),
    form(
      build,
      pairs(
        ["radius, cm", own.number("centimetres", "Radius of the eyes", 0, { min: 0, step: 0.1 })],
        ["upper lid, °", own.number("upper", "Upper lid above the line of sight", 38, { min: 0, max: 85, step: 1 })],
        ["lower lid, °", own.number("lower", "Lower lid below the line of sight", 30, { min: 0, max: 85, step: 1 })],
      ),
      acts(submit(there ? "Build them anew" : "Build plain eyes", "small")),
      h("p", { class: "soft" }, "A radius of 0 is what the marks say."),
    ),
  ];
}

/** Whether the head takes the neck along, or rides on it. */
function leading(b) {
  const kit = b.state.kits.find((k) => k.kind === "head" && k.joints.neck?.length);
  if (!kit) return null;
  const lead = (leads) => b.step("limbs.set_options", { kit: kit.name, options: { leads } }, { keepPose: true });
  return [
    h("h3", {}, "Head and neck"),
    choices({ head: "Head leads", neck: "Neck leads" }, kit.options.leads ?? "head", lead),
  ];
}

function pads(b) {
  if (!b.state.boards.length) return null;
  const open = b.ui.openBoards;
  return [
    h("h3", {}, "Boards"),
    acts(
      ...b.state.boards.map((x) =>
        button(
          open.has(x.name) ? `Close ${x.name}` : `Open ${x.name}`,
          () => b.ui.put("openBoards", x.name, !open.has(x.name)),
          "small",
        ),
      ),
    ),
  ];
}

function left(b) {
  const { marks } = b.state.face;
  return [
    h("h2", {}, "Face"),
    marks.length
      ? markList(b)
      : h(
          "p",
          { class: "empty" },
          "Nothing of the face is known yet. It is estimated from the shape of the head; you put right what is off.",
        ),
    acts(
      button(marks.length ? "Look again" : "Find what is where", find(b, false), marks.length ? "small quiet" : "mend"),
    ),
    builtEyes(b),
    products(b),
    leading(b),
    joinHead(b),
    pads(b),
    marks.length ? null : acts(actionButton(b, "eyes", "small", "Only set eyes and aim")),
  ];
}

async function nearHead(b) {
  try {
    const { box } = await call("GET", `/api/c/${b.number}/face/box`);
    if (b.station === "face") b.plate.setNear(box);
  } catch {
    b.plate.setNear(null); // no head is known: the whole figure is shown
  }
}

/** @type {any} */
const SEEN = { at: "" }; // which mesh the drawings were brought to the head of

/** Half a face that was posed, made whole: what is in the middle comes back to the middle. */
function halves(b) {
  if (!Object.keys(b.values).length || !b.state.controls.some((c) => c.side !== "C")) return null;
  return [
    h("h3", {}, "Half a face"),
    acts(
      actionButton(b, "pose.L", "small quiet", "Left half on both"),
      actionButton(b, "pose.R", "small quiet", "Right half on both"),
    ),
  ];
}

enterStation("face", {
  paired: true,
  layers: { controls: true },
  levels: new Set(["face"]),
  fields: { mark: "", eyesApart: false, others: null, headOf: "", headOnto: "" },
  shading: () => "colours",
  left,
  right: (b) => [
    b.tool?.name === "marks" ? null : [b.ui.mark ? markSheet(b) : null, eyeSheet(b)],
    channelSheet(b),
    halves(b),
    poseSheet(b),
  ],
  enter: (b) => {
    SEEN.at = b.state.mesh;
    nearHead(b);
    if (b.state.face.marks.length && !b.tool) b.useTool("marks");
    const aim = b.state.controls.find((c) => c.level === "face");
    if (aim && !b.plate.selected.control && !b.state.face.marks.length) b.choose({ control: aim.name });
  },
  leave: (b) => {
    b.legend = null;
    b.plate.setNear(null);
  },
  shown: (b) => {
    if (b.tool?.name === "marks") b.tool.pick();
    if (chosenMark(b)) showMarkMap(b);
    if (SEEN.at !== b.state.mesh) {
      SEEN.at = b.state.mesh;
      nearHead(b);
    }
  },
});
