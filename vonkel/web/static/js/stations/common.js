// What several stations' sheets share.
import { call } from "../net/api.js";
import { fold } from "../widgets/fields.js";
import { say } from "../widgets/toasts.js";

/** A part of a sheet that folds away; what was open, by its key, stays open. */
export const folding = (b, key, title, ...inside) =>
  fold({ key, title, open: b.ui.open.has(key), act: (on) => b.ui.put("open", key, on) }, ...inside);

/** The same, its title for a key. */
export const folded = (b, title, ...inside) => folding(b, title, title, ...inside);

/** Ask for what a job finds out of the present state: into b.ui under `key`, with the step that it was asked at. */
export async function findOut(b, path, key) {
  const { step } = b.position();
  try {
    const { job } = await call("POST", `/api/c/${b.number}/${path}`);
    const done = await b.watchJob(job);
    if (step === b.position().step) Object.assign(b.ui, { [key]: done.result, [`${key}At`]: step });
  } catch (error) {
    say(error);
  }
}
