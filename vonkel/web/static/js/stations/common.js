// What several stations' sheets share.
import { fold } from "../widgets/fields.js";

/** A part of a sheet that folds away; what was open, by its key, stays open. */
export const folding = (b, key, title, ...inside) =>
  fold({ key, title, open: b.ui.open.has(key), act: (on) => b.ui.put("open", key, on) }, ...inside);

/** The same, its title for a key. */
export const folded = (b, title, ...inside) => folding(b, title, title, ...inside);
