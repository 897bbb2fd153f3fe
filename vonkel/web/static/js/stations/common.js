// What several stations' sheets share.
import { fold } from "../widgets/fields.js";

/** A part of a sheet that folds away; what was open stays open. */
export const folded = (b, title, ...inside) =>
  fold({ key: title, title, open: b.ui.open.has(title), act: (on) => b.ui.put("open", title, on) }, ...inside);
