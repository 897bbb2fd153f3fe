// World places of every joint at every frame of a BVH file, by three.js's own reader; centimetres.
import { readFileSync } from "node:fs";
import { Quaternion, Vector3 } from "three";
import { BVHLoader } from "three/examples/jsm/loaders/BVHLoader.js";

const { skeleton, clip } = new BVHLoader().parse(readFileSync(process.argv[2], "utf-8"));
const tracks = Object.fromEntries(clip.tracks.map((t) => [t.name, t]));
const frames = clip.tracks[0].times.length;
const out = [];
for (let f = 0; f < frames; f++) {
  for (const bone of skeleton.bones) {
    const p = tracks[`${bone.name}.position`],
      q = tracks[`${bone.name}.quaternion`];
    if (p) bone.position.fromArray(p.values, 3 * f);
    if (q) bone.quaternion.fromArray(q.values, 4 * f);
  }
  skeleton.bones[0].updateMatrixWorld(true);
  const v = new Vector3();
  out.push(Object.fromEntries(skeleton.bones.map((b) => [b.name, b.getWorldPosition(v).toArray()])));
}
console.log(JSON.stringify({ frames: out, times: [...clip.tracks[0].times], unit: new Quaternion().length() }));
