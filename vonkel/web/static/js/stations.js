// The stations by name, and every action that the finder knows.
import { byId, fullName, inWords } from "./dom.js";
import { joints } from "./stations/joints.js";
import { model } from "./stations/model.js";
import { limbs } from "./stations/limbs.js";
import { face, handover, shapes, skin, trials } from "./stations/posing.js";
import { DRAW } from "./tools/draw.js";
import { MESH_TOOLS } from "./tools/mesh.js";
import { tryPivot } from "./tools/pivot.js";

export { findingCards } from "./stations/common.js";

export const STATIONS = { model, joints, limbs, skin, shapes, face, trials, handover };

/** Every action the finder knows, for the present character. */
export function actionsOf(b) {
  const actions = b.state.stations.map((s) => ({ label: `Go to ${s.title}`, where: "path", act: () => b.go(s.key) }));
  const add = (label, where, act) => actions.push({ label, where, act });
  for (const plan of ["biped", "quadruped", "winged", "many-legged", "finned", "chain", "head"]) add(`Lay the ${plan} plan into the mesh`, "joints", () => b.step("joints.lay_plan", { plan }));
  for (const [name, tool] of Object.entries({ ...MESH_TOOLS, draw: DRAW })) add(tool.title, tool.station, () => { b.go(tool.station); b.useTool(name); });
  add("Try a pivot for the chosen joint", "joints", () => { b.go("joints"); tryPivot(b); });
  add("Weld points that lie together", "model", () => b.step("model.weld", { millimetres: 0.1 }));
  add("Turn faces outward", "model", () => b.step("model.outward", {}));
  add("Take strays away", "model", () => b.step("model.clear_strays", {}));
  add("Make left and right equal", "model", () => b.step("model.symmetrise", {}));
  add("Settle transforms", "model", () => b.step("model.settle", {}));
  add("Take the pose as the new rest", "pose", () => b.newRest());
  add("Set limits from normal ranges of people", "joints", () => b.step("joints.free_by_table", { table: "people" }));
  add("Save the skeleton as a plan", "joints", () => { b.go("joints"); b.openPlans(); });
  add("Turn all joints down their bones", "joints", () => b.step("joints.turn_down_bones", {}));
  add("Put on the kits that the joints call for", "limbs", () => b.step("limbs.outfit", {}));
  add("Put on a kit", "limbs", () => { b.go("limbs"); b.useTool("kit"); });
  add("Run springs and swings live", "limbs", () => { b.go("limbs"); b.run(true); });
  add("Choose the control opposite", "limbs", () => b.selectOpposite());
  add("Read the order of solving", "limbs", () => { b.go("limbs"); b.rigView = "order"; b.sheets(); });
  add("See what leads and what follows", "limbs", () => { b.go("limbs"); b.rigView = "links"; b.sheets(); });
  for (const [how, words] of [["swap", "Swap left and right of the pose"], ["L", "Copy the left side's pose to the right"], ["R", "Copy the right side's pose to the left"]]) add(words, "pose", () => b.takeValues("mirror_pose", { how }, words));
  add("Bind the skin through the volume", "skin", () => b.step("skin.bind", {}));
  add("Deform by dual quaternions", "skin", () => b.step("skin.method", { method: "dual" }));
  add("Deform by linear blending", "skin", () => b.step("skin.method", { method: "linear" }));
  add("Set eye joints and aim", "face", () => b.step("face.eyes", {}));
  add("Ground and centre the model", "model", () => b.step("model.stand", {}));
  add("Run the trials", "trials", () => { b.go("trials"); b.strip.run(); });
  add("Back to rest", "pose", () => b.toRest());
  add("Undo", "ledger", () => b.undo("undo"));
  add("Redo", "ledger", () => b.undo("redo"));
  add("Open the ledger", "ledger", () => { byId("ledger").hidden = true; b.ledger.toggle(); });
  add("Download the rig as .glb", "handover", () => { location.href = `/api/c/${b.number}/export.glb`; });
  add("Download the whole character", "handover", () => { location.href = `/api/c/${b.number}/export.vonkel`; });
  add("Download the report", "handover", () => { location.href = `/api/c/${b.number}/report.json`; });
  for (const f of b.state.findings) if (f.mend) add(inWords(`${f.mend.label}: ${f.title}`), f.station, () => b.step(f.mend.step, f.mend.params));
  for (const j of b.state.joints) add(`Choose the joint ${fullName(j.name)}`, "joints", () => { if (!["joints", "skin"].includes(b.station)) b.go("joints"); b.selectJoint(j.name); });
  for (const c of b.state.controls) add(`Choose the control ${fullName(c.name)}`, "limbs", () => { b.go("limbs"); b.selectControl(c.name); });
  for (const t of b.state.trial_names) add(`Try the pose ${t}`, "trials", () => { b.go("trials"); b.trial = t; b.pose(); });
  return actions;
}
