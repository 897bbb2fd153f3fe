// The stations by name.
import { joints } from "./stations/joints.js";
import { model } from "./stations/model.js";
import { limbs } from "./stations/limbs.js";
import { face, handover, shapes, skin, trials } from "./stations/posing.js";

export { findingCards } from "./stations/common.js";

/** @type {Record<string, import("../types/page").StationKind>} */
export const STATIONS = { model, joints, limbs, skin, shapes, face, trials, handover };
