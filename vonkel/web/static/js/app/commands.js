// What can be done from anywhere: entered once, for finder, keys, docks and buttons.
import { tryPivot } from "../tools/pivot.js";
import { makeFace } from "../stations/face.js";
import { enter } from "./actions.js";

/** A step without further questions. */
const step = (id, words, where, name, params = {}) => ({ id, words, where, run: (b) => b.step(name, params) });

/** Something that is done at a station: one goes there first. */
const at = (station, id, words, run) => ({
  id,
  words,
  where: station,
  run: (b) => {
    b.go(station);
    run(b);
  },
});

const download = (id, words, file) => ({
  id,
  words,
  where: "handover",
  run: (b) => {
    location.href = `/api/c/${b.number}/${file}`;
  },
});

const POSED = ["limbs", "skin", "face"];
/** Nothing is in the hand: clicks choose. */
const look = (label, stations) => ({
  id: `hand.${stations[0]}`,
  words: "Put the tool down",
  where: stations[0],
  dock: { at: stations, kind: /** @type {const} */ ("tool"), label },
  on: (b) => !b.tool,
  run: (b) => b.useTool(null),
});

/** What a drag does to a control. */
const grip = (way, label) => ({
  id: `grip.${way}`,
  words: `Drag to ${way} controls`,
  where: "pose",
  dock: { at: POSED, kind: /** @type {const} */ ("tool"), label },
  on: (b) => b.plate.grip === way && !b.plate.tool,
  run: (b) => {
    if (b.plate.tool) b.useTool(null);
    b.plate.grip = way;
    b.look();
  },
});

/** What is shown on the plate, or not. */
const shown = (id, words, stations, label, title, on, run, more = {}) => ({
  id,
  words,
  where: stations[0],
  dock: { at: stations, kind: /** @type {const} */ ("switch"), label, title },
  on,
  run: (b) => {
    run(b);
    b.look();
  },
  ...more,
});

const PAGE = [
  {
    id: "find",
    words: "Find an action",
    where: "page",
    key: "/",
    keyWords: "find any action",
    run: (b) => b.finder.open(),
  },
  {
    id: "keys",
    words: "See the keys",
    where: "page",
    key: "?",
    keyWords: "these keys",
    run: (b) => b.finder.showKeys(),
  },
  {
    id: "fade",
    words: "Fade what is chosen, and put it out of reach; or bring it back",
    where: "page",
    key: "f",
    keyWords: "fade what is chosen, out of reach; again: bring it back",
    run: (b) => (b.kind.fade ? b.kind.fade(b) : b.putAside()),
  },
  { id: "unfade", words: "Bring back all that is faded", where: "page", run: (b) => b.bringBack() },
  { id: "undo", words: "Undo", where: "ledger", run: (b) => b.undo("undo") },
  { id: "redo", words: "Redo", where: "ledger", run: (b) => b.undo("redo") },
  {
    id: "ledger",
    words: "Open the ledger",
    where: "ledger",
    key: "l",
    keyWords: "ledger",
    run: (b) => b.ledger.toggle(),
  },
];

const MODEL = [
  look("Look", ["model"]),
  step("weld", "Weld points that lie together", "model", "model.weld", { millimetres: 0.1 }),
  step("outward", "Turn faces outward", "model", "model.outward"),
  step("strays", "Take strays away", "model", "model.clear_strays"),
  step("symmetrise", "Make left and right equal", "model", "model.symmetrise"),
  step("settle", "Settle transforms", "model", "model.settle"),
  step("stand", "Ground and centre the model", "model", "model.stand"),
];

const PLANS = ["biped", "quadruped", "winged", "many-legged", "finned", "chain", "head"];
const JOINTS = [
  look("Choose", ["joints"]),
  ...PLANS.map((plan) =>
    step(`plan.${plan}`, `Lay the ${plan} plan into the mesh`, "joints", "joints.lay_plan", { plan }),
  ),
  step("limits", "Set limits from normal ranges of people", "joints", "joints.free_by_table", { table: "people" }),
  at("joints", "save-plan", "Save the skeleton as a plan", (b) => b.openPlans()),
  step("turn-down", "Turn all joints down their bones", "joints", "joints.turn_down_bones"),
  shown(
    "both",
    "Do on both sides, or on one",
    ["joints"],
    "Both sides",
    "Left moves right",
    (b) => b.symmetry,
    (b) => {
      b.symmetry = !b.symmetry;
    },
  ),
  shown(
    "axes",
    "Show the joints' axes",
    ["joints"],
    "Axes",
    "Show every joint's axes",
    (b) => b.plate.axesShown,
    (b) => {
      b.plate.axesShown = !b.plate.axesShown;
    },
    { key: "a", keyWords: "show axes", station: "joints" },
  ),
  {
    ...at("joints", "pivot", "Try a pivot for the chosen joint", (b) => tryPivot(b)),
    dock: {
      at: ["joints"],
      kind: /** @type {const} */ ("act"),
      label: "Try pivots",
      title: "Swing the chosen limb about other places",
    },
  },
];

const SWAPS = [
  ["swap", "Swap left and right of the pose", "Swapped left and right"],
  ["L", "Copy the left side's pose to the right", "Left copied to the right"],
  ["R", "Copy the right side's pose to the left", "Right copied to the left"],
];
const POSE = [
  grip("move", "Move"),
  grip("turn", "Turn"),
  shown(
    "fine",
    "Show or hide the fine controls",
    ["limbs"],
    "Fine controls",
    "Show every control",
    (b) => !b.plate.levels,
    (b) => {
      b.plate.levels = b.plate.levels ? null : new Set(["body", "face"]);
    },
  ),
  shown(
    "heat",
    "Show the heat, or not",
    ["trials"],
    "Heat",
    "How far edges are stretched or squeezed",
    (b) => b.heat,
    (b) => {
      b.heat = !b.heat;
      if (!b.heat) b.plate.setValues(null);
      b.showHeat();
      b.pose();
    },
  ),
  {
    id: "wires",
    words: "Show the edges of the faces, or not",
    where: "skin",
    run: (b) => {
      b.plate.drawn.setWires(!b.plate.drawn.wires);
      b.look();
    },
  },
  shown(
    "over",
    "Show the skin as it will be handed over, or live",
    ["skin", "shapes", "motion", "trials"],
    "Handed over",
    "As it will be handed over, or live",
    (b) => b.over,
    (b) => {
      b.over = !b.over;
      b.pose();
    },
  ),
  shown(
    "outlines",
    "Show the controls to pose by, or not",
    ["shapes", "motion"],
    "Controls",
    "Show the controls, to pose the figure by",
    (b) => b.plate.layers.controls,
    (b) => {
      b.plate.layers = { ...b.plate.layers, controls: !b.plate.layers.controls };
    },
  ),
  shown(
    "joints-shown",
    "Show the joints, or not",
    [...POSED, "motion", "trials"],
    "Joints",
    "Show the joints",
    (b) => b.plate.layers.joints,
    (b) => {
      b.plate.layers = { ...b.plate.layers, joints: !b.plate.layers.joints };
    },
  ),
  {
    id: "rest",
    words: "Back to rest",
    where: "pose",
    key: "b",
    keyWords: "back to rest",
    dock: { at: [...POSED, "motion", "trials"], kind: /** @type {const} */ ("act"), label: "Back to rest" },
    run: (b) => b.toRest(),
  },
  { id: "new-rest", words: "Take the pose as the new rest", where: "pose", run: (b) => b.newRest() },
  {
    id: "opposite",
    words: "Choose the control opposite",
    where: "limbs",
    key: "o",
    keyWords: "the control opposite",
    run: (b) => b.selectOpposite(),
  },
  ...SWAPS.map(([how, words, label]) => ({
    id: `pose.${how}`,
    words,
    where: "pose",
    run: (b) => b.takeValues("mirror_pose", { how }, label),
  })),
];

const RIG = [
  step("outfit", "Put on the kits that the joints call for", "limbs", "limbs.outfit"),
  at("limbs", "run", "Run springs and swings live", (b) => b.run(true)),
  at("limbs", "order", "Read the order of solving", (b) => {
    b.ui.rigView = "order";
  }),
  at("limbs", "links", "See what leads and what follows", (b) => {
    b.ui.rigView = "links";
  }),
  step("bind", "Bind the skin through the volume", "skin", "skin.bind"),
  step("bind-nearest", "Bind the skin by the nearest bone", "skin", "skin.bind", { by: "nearest" }),
  step("dual", "Deform by dual quaternions", "skin", "skin.method", { method: "dual" }),
  step("linear", "Deform by linear blending", "skin", "skin.method", { method: "linear" }),
  step("eyes", "Set eye joints and aim", "face", "face.eyes"),
  step("face-find", "Find what is where on the face", "face", "face.find"),
  at("face", "face-make", "Make the face from its marks", (b) => makeFace(b)),
  at("trials", "trials", "Run the trials", (b) => b.strip.run()),
  download("glb", "Download the rig as .glb", "export.glb"),
  download("whole", "Download the whole character", "export.vonkel"),
  download("report", "Download the report", "report.json"),
];

[...PAGE, ...MODEL, ...JOINTS, ...POSE, ...RIG].forEach(enter);
