// Every action there is: the finder, the keys and the list of keys take them from here.
import { fullName, inWords } from "../dom.js";

/**
 * `key` is what runs it from the keyboard, `keyWords` what the list of keys says of that; `station`: only there.
 * @typedef {{ id: string, words: string, where: string, key?: string, keyWords?: string, station?: string,
 *   run: (bench: any) => any }} Action
 */

/** @type {Map<string, Action>} */
const actions = new Map();

/** Enter an action.  @param {Action} action */
export function enter(action) {
  if (actions.has(action.id)) throw new Error(`two actions are called ${action.id}`);
  actions.set(action.id, action);
}

/** A step without further questions.  @returns {Action} */
const step = (id, words, where, name, params = {}) => ({ id, words, where, run: (b) => b.step(name, params) });

/** Something that is done at a station: one goes there first.  @returns {Action} */
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

const PLANS = ["biped", "quadruped", "winged", "many-legged", "finned", "chain", "head"];
const SWAPS = [
  ["swap", "Swap left and right of the pose"],
  ["L", "Copy the left side's pose to the right"],
  ["R", "Copy the right side's pose to the left"],
];

/** @type {Action[]} */
const OURS = [
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
  ...PLANS.map((plan) =>
    step(`plan.${plan}`, `Lay the ${plan} plan into the mesh`, "joints", "joints.lay_plan", { plan }),
  ),
  step("weld", "Weld points that lie together", "model", "model.weld", { millimetres: 0.1 }),
  step("outward", "Turn faces outward", "model", "model.outward"),
  step("strays", "Take strays away", "model", "model.clear_strays"),
  step("symmetrise", "Make left and right equal", "model", "model.symmetrise"),
  step("settle", "Settle transforms", "model", "model.settle"),
  step("stand", "Ground and centre the model", "model", "model.stand"),
  { id: "new-rest", words: "Take the pose as the new rest", where: "pose", run: (b) => b.newRest() },
  step("limits", "Set limits from normal ranges of people", "joints", "joints.free_by_table", { table: "people" }),
  at("joints", "save-plan", "Save the skeleton as a plan", (b) => b.openPlans()),
  step("turn-down", "Turn all joints down their bones", "joints", "joints.turn_down_bones"),
  {
    id: "axes",
    words: "Show the joints' axes",
    where: "joints",
    station: "joints",
    key: "a",
    keyWords: "show axes",
    run: (b) => b.showAxes(),
  },
  step("outfit", "Put on the kits that the joints call for", "limbs", "limbs.outfit"),
  at("limbs", "run", "Run springs and swings live", (b) => b.run(true)),
  {
    id: "opposite",
    words: "Choose the control opposite",
    where: "limbs",
    key: "o",
    keyWords: "the control opposite",
    run: (b) => b.selectOpposite(),
  },
  at("limbs", "order", "Read the order of solving", (b) => b.viewRig("order")),
  at("limbs", "links", "See what leads and what follows", (b) => b.viewRig("links")),
  ...SWAPS.map(([how, words]) => ({
    id: `pose.${how}`,
    words,
    where: "pose",
    run: (b) => b.takeValues("mirror_pose", { how }, words),
  })),
  step("bind", "Bind the skin through the volume", "skin", "skin.bind"),
  step("bind-nearest", "Bind the skin by the nearest bone", "skin", "skin.bind", { by: "nearest" }),
  step("dual", "Deform by dual quaternions", "skin", "skin.method", { method: "dual" }),
  step("linear", "Deform by linear blending", "skin", "skin.method", { method: "linear" }),
  step("eyes", "Set eye joints and aim", "face", "face.eyes"),
  at("trials", "trials", "Run the trials", (b) => b.strip.run()),
  {
    id: "fade",
    words: "Fade what is chosen, and put it out of reach; or bring it back",
    where: "page",
    key: "f",
    keyWords: "fade what is chosen, out of reach; again: bring it back",
    run: (b) => b.putAside(),
  },
  { id: "unfade", words: "Bring back all that is faded", where: "page", run: (b) => b.bringBack() },
  { id: "rest", words: "Back to rest", where: "pose", key: "b", keyWords: "back to rest", run: (b) => b.toRest() },
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
  download("glb", "Download the rig as .glb", "export.glb"),
  download("whole", "Download the whole character", "export.vonkel"),
  download("report", "Download the report", "report.json"),
];
OURS.forEach(enter);

/**
 * What can be done to the present character by name: findings' mends, things to choose, poses to try.  @returns
 * {Action[]}
 */
function ofTheCharacter(b) {
  const mends = b.state.findings.filter((f) => f.mend);
  return [
    ...b.state.stations.map((s) => ({ id: "", words: `Go to ${s.title}`, where: "path", run: () => b.go(s.key) })),
    ...mends.map((f) => step("", inWords(`${f.mend.label}: ${f.title}`), f.station, f.mend.step, f.mend.params)),
    ...b.state.joints.map((j) => ({
      id: "",
      words: `Choose the joint ${fullName(j.name)}`,
      where: "joints",
      run: () => {
        if (!["joints", "skin"].includes(b.station)) b.go("joints");
        b.selectJoint(j.name);
      },
    })),
    ...b.state.controls.map((c) =>
      at("limbs", "", `Choose the control ${fullName(c.name)}`, () => b.selectControl(c.name)),
    ),
    ...b.state.trial_names.map((t) =>
      at("trials", "", `Try the pose ${t}`, () => {
        b.trial = t;
        b.pose();
      }),
    ),
  ];
}

/** All that can be done now, for the finder.  @returns {Action[]} */
export function actionsOf(b) {
  return [...actions.values(), ...ofTheCharacter(b)];
}

/** The action that a key runs at a station, if there is one. */
export function actionOfKey(key, station) {
  return [...actions.values()].find((a) => a.key === key && (!a.station || a.station === station));
}

/** Keys and what they do at a station: [key, words]. */
export function keysOf(station) {
  return [...actions.values()]
    .filter((a) => a.key && (!a.station || a.station === station))
    .map((a) => [a.key, a.keyWords ?? a.words]);
}

/** Enter the tools that the plate knows: each is taken up at its station. */
export function enterTools(tools) {
  for (const [name, tool] of Object.entries(tools))
    enter(at(tool.station, `tool.${name}`, tool.title, (b) => b.useTool(name)));
}
