// What brushes have in common: the ring under the hand, and a place of the posed mesh said at rest.
import { plus } from "../plate/space.js";

const ROUND = 48; // pieces of the ring

/** Lines of a ring across the way one looks: its rim, and within it how strong it is, as much of a turn. */
export function ring(axes, middle, radius, strength, label = "") {
  const round = (r, share) =>
    Array.from({ length: ROUND + 1 }, (_, k) => {
      const turn = (2 * Math.PI * share * k) / ROUND;
      return plus(plus(middle, axes.right, r * Math.sin(turn)), axes.up, r * Math.cos(turn));
    });
  return [
    { line: round(radius, 1), ink: true },
    { line: round(0.82 * radius, strength), label },
  ];
}

const minus = (a, b) => plus(a, b, -1);
const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const unit = (a) => {
  const n = Math.hypot(...a) || 1;
  return a.map((v) => v / n);
};

/** Axes of a triangle: along its first side, out of it, and the third. @param {number[][]} corners */
function axesOf([a, b, c]) {
  const x = unit(minus(b, a)),
    z = unit(cross(x, minus(c, a)));
  return [x, cross(z, x), z];
}

/**
 * A place under the hand on the mesh as it is posed, said of the mesh at rest: triangle, its second and third corner's
 * share, press, and the way one looks, turned back as the triangle is.
 */
export function atRest(drawn, { hit, place, ray, press = 1 }) {
  const ids = [0, 1, 2].map((k) => drawn.triangles[3 * hit.triangle + k]);
  const corners = (points) => ids.map((i) => [points[3 * i], points[3 * i + 1], points[3 * i + 2]]);
  const posed = corners(drawn.points),
    [a, b, c] = posed,
    ab = minus(b, a),
    ac = minus(c, a),
    ap = minus(place, a);
  const d = dot(ab, ab) * dot(ac, ac) - dot(ab, ac) ** 2 || 1;
  const u = (dot(ac, ac) * dot(ap, ab) - dot(ab, ac) * dot(ap, ac)) / d,
    v = (dot(ab, ab) * dot(ap, ac) - dot(ab, ac) * dot(ap, ab)) / d;
  const from = axesOf(posed),
    to = axesOf(corners(drawn.rest)),
    way = from.map((axis) => dot(axis, ray[1]));
  const look = [0, 1, 2].map((k) => to[0][k] * way[0] + to[1][k] * way[1] + to[2][k] * way[2]);
  return [hit.triangle, u, v, press, ...look];
}
