// Maps over the skin: one joint's weight, all joints in inks, how many hold a point, where weights jump, the blend.
import { bytes } from "../net/api.js";
import { say } from "../widgets/toasts.js";
import { fullName } from "../words.js";

export const MAPS = { joint: "One joint", inks: "All joints", count: "How many", jump: "Jumps", blend: "Blend" };
const JUMP = 0.5; // a weight that changes by as much over one edge is shown in full

const LEGENDS = {
  count: (b) => ({ title: "joints that hold a point", labels: ["0", "", "", "", String(b.state.skin.influences)] }),
  blend: () => ({ title: "how much deforms by dual quaternions", labels: ["linear", "", "½", "", "dual"] }),
  eased: (b) => ({ title: "how much easing changes a hold", labels: ["0", "", "", "", mostEased(b).toFixed(2)] }),
  jump: () => ({ title: "how far a weight jumps to the next point", labels: ["0", "", "¼", "", "½"] }),
};

const mostEased = (b) => b.ui.howBound?.changed.reduce((most, v) => Math.max(most, v), 0.01) ?? 1;

/** How much easing changes what holds each point of the mesh, as the job found it. */
function easedOf(b) {
  const data = new Float32Array(b.plate.points.length / 3);
  b.ui.howBound?.where.forEach((i, k) => {
    data[i] = b.ui.howBound.changed[k];
  });
  return data;
}

/** Colour the mesh by what is to be shown; what comes late is left if something else was asked meanwhile. */
export async function showMap(b) {
  const { skinMap } = b.ui,
    { joint } = b.plate.selected,
    path = `/api/c/${b.number}`;
  if (!b.state.skin || (skinMap === "joint" && !joint)) return;
  const current = () => b.station === "skin" && b.ui.skinMap === skinMap && b.plate.selected.joint === joint;
  try {
    if (skinMap === "inks") {
      const data = new Uint8Array(await bytes(`${path}/skin/map/inks`));
      if (!current()) return;
      b.plate.setInks(data);
      b.legend = { title: "every joint in an ink of its own", plain: true };
      return;
    }
    const from = skinMap === "joint" ? `${path}/weights/${encodeURIComponent(joint)}` : `${path}/skin/map/${skinMap}`;
    const data = skinMap === "eased" ? easedOf(b) : new Float32Array(await bytes(from));
    if (!current()) return;
    const scale = { joint: 1, count: 1 / b.state.skin.influences, jump: 1 / JUMP, blend: 1, eased: 1 / mostEased(b) }[
      skinMap
    ];
    b.plate.setValues(scale === 1 ? data : data.map((v) => v * scale));
    b.legend = skinMap === "joint" ? { title: `weight of ${fullName(joint)}` } : LEGENDS[skinMap](b);
  } catch (error) {
    say(error);
  }
}
