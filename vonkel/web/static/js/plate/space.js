// What the plate's drawings share: colours, the three flat views, and small vector helpers.
export const INK = "#22303c",
  EMBER = "#c8481a",
  SIDES = { L: "#1b7471", R: "#7a3b76", C: "#8a5e12" };
export const FLAT = {
  front: { right: [1, 0, 0], up: [0, 1, 0], out: [0, 0, 1] },
  side: { right: [0, 0, -1], up: [0, 1, 0], out: [1, 0, 0] },
  top: { right: [1, 0, 0], up: [0, 0, -1], out: [0, 1, 0] },
};
export const RULER = 44;
export const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
export const plus = (a, b, s = 1) => [a[0] + s * b[0], a[1] + s * b[1], a[2] + s * b[2]];

/** A vector turned by a quaternion (w, x, y, z). */
export function rotated([w, x, y, z], [a, b, c]) {
  const tx = 2 * (y * c - z * b),
    ty = 2 * (z * a - x * c),
    tz = 2 * (x * b - y * a);
  return [a + w * tx + y * tz - z * ty, b + w * ty + z * tx - x * tz, c + w * tz + x * ty - y * tx];
}

/** Pixels from (x, y) to the piece between two projected places. */
export function toSegment(x, y, a, b) {
  const dx = b[0] - a[0],
    dy = b[1] - a[1];
  const t = Math.min(Math.max(((x - a[0]) * dx + (y - a[1]) * dy) / (dx * dx + dy * dy || 1), 0), 1);
  return Math.hypot(x - a[0] - t * dx, y - a[1] - t * dy);
}
