// The stations by name.
import { joints } from "./stations/joints.js";
import { model } from "./stations/model.js";
import { limbs } from "./stations/limbs.js";
import { face } from "./stations/face.js";
import { handover } from "./stations/handover.js";
import { shapes } from "./stations/shapes.js";
import { skin } from "./stations/skin.js";
import { trials } from "./stations/trials.js";

export { findingCards } from "./stations/common.js";

/** @type {Record<string, import("../types/page").StationKind>} */
export const STATIONS = { model, joints, limbs, skin, shapes, face, trials, handover };
