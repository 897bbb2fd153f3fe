// The tree over triangles against looking at every triangle, and what is drawn anew against drawing all.
import assert from "node:assert/strict";
import test from "node:test";
import { Around } from "../../vonkel/web/static/js/plate/around.js";
import { Tree } from "../../vonkel/web/static/js/plate/tree.js";

/** Numbers that are the same in each run. */
function numbers(seed) {
  let s = seed;
  return () => {
    s = (Math.imul(s, 1664525) + 1013904223) >>> 0;
    return s / 2 ** 32;
  };
}

/** A bumpy ball of rows × columns points. */
function ball(rows, columns) {
  const points = new Float32Array(3 * rows * columns),
    triangles = [];
  for (let i = 0; i < rows; i++)
    for (let j = 0; j < columns; j++) {
      const a = (Math.PI * (i + 0.5)) / rows,
        b = (2 * Math.PI * j) / columns,
        r = 1 + 0.2 * Math.sin(5 * a) * Math.cos(3 * b),
        p = i * columns + j;
      points.set([r * Math.sin(a) * Math.cos(b), r * Math.cos(a), r * Math.sin(a) * Math.sin(b)], 3 * p);
      if (i === rows - 1) continue;
      const next = i * columns + ((j + 1) % columns);
      triangles.push(p, next, p + columns, next, next + columns, p + columns);
    }
  return { points, triangles: new Uint32Array(triangles) };
}

/** The nearest hit, by looking at every triangle in double precision. */
function byEach(points, triangles, origin, way) {
  let best = Infinity;
  const at = (i) => [0, 1, 2].map((k) => points[3 * i + k]);
  const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
  const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
  const less = (a, b) => a.map((v, k) => v - b[k]);
  for (let t = 0; t < triangles.length; t += 3) {
    const [a, b, c] = [0, 1, 2].map((k) => at(triangles[t + k]));
    const u = less(b, a),
      v = less(c, a),
      n = cross(u, v),
      across = dot(n, way);
    if (Math.abs(across) < 1e-14) continue;
    const far = dot(n, less(a, origin)) / across;
    if (far <= 0 || far >= best) continue;
    const p = less(
      origin.map((o, k) => o + far * way[k]),
      a,
    );
    const s = dot(cross(p, v), n) / dot(n, n),
      r = dot(cross(u, p), n) / dot(n, n);
    if (s >= -1e-9 && r >= -1e-9 && s + r <= 1 + 1e-9) best = far;
  }
  return best;
}

function rays(count, seed) {
  const random = numbers(seed);
  return [...Array(count)].map(() => {
    const origin = [0, 1, 2].map(() => 6 * random() - 3),
      to = [0, 1, 2].map(() => 1.6 * random() - 0.8),
      way = to.map((v, k) => v - origin[k]),
      n = Math.hypot(...way);
    return [origin, way.map((v) => v / n)];
  });
}

test("rays meet what looking at every triangle meets, also after the points moved", () => {
  const { points, triangles } = ball(40, 60);
  const tree = new Tree(points, triangles);
  for (const moved of [false, true]) {
    if (moved) {
      for (let i = 0; i < points.length; i += 3) points[i] += 0.4 * points[i + 1] ** 2;
      tree.fit(points);
    }
    let hits = 0;
    for (const [origin, way] of rays(150, 7)) {
      const want = byEach(points, triangles, origin, way),
        got = tree.hit(origin, way);
      assert.equal(got !== null, want < Infinity, "one of them meets nothing");
      if (!got) continue;
      hits += 1;
      assert.ok(Math.abs(got.distance - want) < 1e-5, `${got.distance} for ${want}`);
      assert.ok([0, 1, 2].some((k) => triangles[3 * got.triangle + k] === got.point));
    }
    assert.ok(hits > 100);
  }
});

test("a triangle that is passed is not met: the next behind it is", () => {
  const { points, triangles } = ball(20, 30);
  const tree = new Tree(points, triangles);
  const first = tree.hit([0, 0, 5], [0, 0, -1]);
  const next = tree.hit([0, 0, 5], [0, 0, -1], (t) => t === first.triangle);
  assert.ok(next.distance > first.distance + 0.5, "the far side of the ball");
});

test("a single triangle, and one that is a needle", () => {
  const points = new Float32Array([0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1, 1, 0, 1, 2, 0, 1]);
  const tree = new Tree(points, new Uint32Array([0, 1, 2, 3, 4, 5]));
  assert.equal(tree.hit([0.2, 0.2, 1], [0, 0, -1]).triangle, 0);
  assert.equal(tree.hit([0.2, 0.2, 1], [0, 0, 1]), null);
});

test("what lies under a brush is what lies within its radius", () => {
  const { points, triangles } = ball(50, 50);
  const tree = new Tree(points, triangles);
  const random = numbers(3);
  for (let n = 0; n < 20; n++) {
    const place = [0, 1, 2].map(() => 2.4 * random() - 1.2),
      radius = 0.05 + 0.5 * random(),
      want = [];
    for (let i = 0; i < points.length / 3; i++)
      if (Math.hypot(...place.map((v, k) => points[3 * i + k] - v)) <= radius) want.push(i);
    assert.deepEqual(
      tree.near(place, radius).sort((a, b) => a - b),
      want,
    );
  }
});

test("normals of what moved are those of drawing all anew", () => {
  const { points, triangles } = ball(30, 40);
  const count = points.length / 3,
    around = new Around(triangles, count),
    all = { points: [...Array(count).keys()], runs: [] };
  const ways = new Float32Array(points.length);
  around.writeNormals(points, all, ways);
  const ranges = [200, 64, 700, 128];
  for (let r = 0; r < ranges.length; r += 2)
    for (let i = 3 * ranges[r]; i < 3 * (ranges[r] + ranges[r + 1]); i++) points[i] *= 1.3;
  const touched = around.touched(ranges);
  around.writeNormals(points, touched, ways);
  const want = new Float32Array(points.length);
  around.writeNormals(points, all, want);
  assert.deepEqual(ways, want);
  assert.ok(touched.points.length < count / 2);
  const held = new Set(touched.runs.flatMap(([first, n]) => [...Array(n).keys()].map((k) => first + k)));
  assert.ok(
    touched.points.every((p) => held.has(p)),
    "every touched point is in a run that is sent",
  );
});
