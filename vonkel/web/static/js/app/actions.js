// The one registry of actions: finder, keys, list of keys, docks and buttons take them from here.
import { buttonClass } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { fullName, inWords } from "../words.js";
import { STATIONS } from "./stations.js";

/**
 * `key` is what runs it from the keyboard, `keyWords` what the list of keys says of that; `station`: its key works only
 * there; `dock`: at which stations it stands in the dock, as what, and with which words; `on`: whether it is on now.
 * @typedef {{ id: string, words: string, where: string, key?: string, keyWords?: string, station?: string,
 *   dock?: { at: string[], kind: "tool" | "switch" | "act", label: string, title?: string },
 *   on?: (bench: any) => boolean, run: (bench: any) => any }} Action
 */

/** @type {Map<string, Action>} */
const actions = new Map();

/** Enter an action.  Returns what takes it away.  @param {Action} action */
export function enter(action) {
  if (actions.has(action.id)) throw new Error(`two actions are called ${action.id}`);
  actions.set(action.id, action);
  return () => actions.delete(action.id);
}

const here = (action, station) => !action.station || action.station === station;

/**
 * What can be done to the present character by name: findings' mends, things to choose, poses to try.
 * @returns {Action[]}
 */
function ofTheCharacter(b) {
  const { state } = b;
  const to = (words, where, run) => ({ id: "", words, where, run });
  const gone = (station, run) => () => {
    b.go(station);
    run();
  };
  return [
    ...state.stations.map((s) => to(`Go to ${s.title}`, "path", () => b.go(s.key))),
    ...state.findings
      .filter((f) => f.mend)
      .map((f) => to(inWords(`${f.mend.label}: ${f.title}`), f.station, () => b.step(f.mend.step, f.mend.params))),
    ...state.joints.map((j) =>
      to(`Choose the joint ${fullName(j.name)}`, "joints", () => {
        if (!["joints", "skin"].includes(b.station)) b.go("joints");
        b.selectJoint(j.name);
      }),
    ),
    ...state.controls.map((c) =>
      to(
        `Choose the control ${fullName(c.name)}`,
        "limbs",
        gone("limbs", () => b.selectControl(c.name)),
      ),
    ),
    ...state.trial_names.map((t) =>
      to(
        `Try the pose ${t}`,
        "trials",
        gone("trials", () => b.strip.go({ name: t })),
      ),
    ),
  ];
}

/** All that can be done now, for the finder: also every step, which is asked for what it takes.  @returns {Action[]} */
export function actionsOf(b) {
  const steps = [...b.steps.values()].map((s) => ({
    id: "",
    words: s.about.replace(/\.$/, ""),
    where: s.name,
    run: () => b.askStep(s.name),
  }));
  return [...actions.values(), ...ofTheCharacter(b), ...steps];
}

/** The action that a key runs at a station, if there is one. */
export function actionOfKey(key, station) {
  return [...actions.values()].find((a) => a.key === key && here(a, station));
}

/** Keys and what they do at a station: [key, words]. */
export function keysOf(station) {
  return [
    ...[...actions.values()].filter((a) => a.key && here(a, station)).map((a) => [a.key, a.keyWords ?? a.words]),
    ...(STATIONS.get(station)?.keys ?? []),
  ];
}

/** What stands in a station's dock, in the order in which it was entered. */
export const dockOf = (station) => [...actions.values()].filter((a) => a.dock?.at.includes(station));

/** A button that does an action, by its id: it is on when the action says so. */
export function actionButton(b, id, kind = "small", words = "") {
  const a = actions.get(id);
  const key = a.key ? ` (${a.key})` : "",
    on = a.on?.(b);
  return h(
    "button",
    {
      type: "button",
      class: `${buttonClass(kind)}${on ? " active" : ""}`,
      "aria-pressed": a.on ? String(!!on) : undefined,
      onclick: () => a.run(b),
    },
    (words || a.words) + key,
  );
}
