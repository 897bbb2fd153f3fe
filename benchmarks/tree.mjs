// A ray through the tree over the triangles against looking at every triangle: `node benchmarks/tree.mjs`.
import { Tree } from "../vonkel/web/static/js/plate/tree.js";

const [rows, columns] = [400, 700];
const points = new Float32Array(3 * rows * columns),
  list = [];
for (let i = 0; i < rows; i++)
  for (let j = 0; j < columns; j++) {
    const a = (Math.PI * (i + 0.5)) / rows,
      b = (2 * Math.PI * j) / columns,
      r = 1 + 0.1 * Math.sin(9 * a) * Math.cos(7 * b),
      p = i * columns + j,
      q = i * columns + ((j + 1) % columns);
    points.set([r * Math.sin(a) * Math.cos(b), r * Math.cos(a), r * Math.sin(a) * Math.sin(b)], 3 * p);
    if (i < rows - 1) list.push(p, q, p + columns, q, q + columns, p + columns);
  }
const triangles = new Uint32Array(list);

/** The least of a few runs, milliseconds. */
function best(act, runs = 5) {
  let least = Infinity;
  for (let i = 0; i < runs; i++) {
    const began = performance.now();
    act();
    least = Math.min(least, performance.now() - began);
  }
  return least;
}

const tree = new Tree(points, triangles);
const ray = (i) => {
  const o = [3 * Math.cos(i), 2 * Math.sin(1.7 * i), 3 * Math.sin(i)],
    d = [0.4 * Math.cos(3 * i) - o[0], 0.4 * Math.sin(5 * i) - o[1], -o[2]],
    n = Math.hypot(...d);
  return /** @type {[number[], number[]]} */ ([o, d.map((v) => v / n)]);
};
const each = best(() => {
  const [o, d] = ray(3);
  for (let t = 0; t < triangles.length / 3; t++) tree.meets(t, /** @type {any} */ (o), /** @type {any} */ (d));
});
const through = best(() => {
  for (let i = 0; i < 500; i++) tree.hit(...ray(i));
});
const built = best(() => new Tree(points, triangles), 3),
  fitted = best(() => tree.fit(points));
console.log(`${triangles.length / 3} triangles: built ${built.toFixed(0)} ms, fitted anew ${fitted.toFixed(0)} ms,`);
console.log(
  `a ray ${(through / 500).toFixed(3)} ms, every triangle ${each.toFixed(1)} ms: ${((500 * each) / through).toFixed(0)}x`,
);
