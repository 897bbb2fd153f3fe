// A tree of boxes over triangles, for rays and for what lies near a place: triangles in the order of a curve that fills
// space, eight to a leaf, boxes in one array (a heap).  The order holds while the mesh is posed; boxes are fitted anew.

const LEAF = 8; // triangles
const GRID = 1023; // cells a side of the curve
const FLAT = 1e-14; // a determinant below this: the ray runs along the triangle

/** Ten bits spread to every third place. */
function spread(v) {
  let x = v;
  x = (x | (x << 16)) & 0x030000ff;
  x = (x | (x << 8)) & 0x0300f00f;
  x = (x | (x << 4)) & 0x030c30c3;
  return (x | (x << 2)) & 0x09249249;
}

/** Triangles by where their first corners lie on the curve. */
function alongCurve(points, triangles) {
  const count = triangles.length / 3,
    low = [Infinity, Infinity, Infinity],
    high = [-Infinity, -Infinity, -Infinity];
  for (let i = 0; i < points.length; i++) {
    const k = i % 3;
    if (points[i] < low[k]) low[k] = points[i];
    if (points[i] > high[k]) high[k] = points[i];
  }
  const size = GRID / Math.max(...high.map((h, k) => h - low[k]), 1e-12);
  const keys = new Float64Array(count); // the cell, and behind it the triangle: sorted as plain numbers
  for (let t = 0; t < count; t++) {
    const p = 3 * triangles[3 * t];
    const cell =
      spread((points[p] - low[0]) * size) |
      (spread((points[p + 1] - low[1]) * size) << 1) |
      (spread((points[p + 2] - low[2]) * size) << 2);
    keys[t] = cell * count + t;
  }
  keys.sort();
  const order = new Uint32Array(count);
  for (let i = 0; i < count; i++) order[i] = keys[i] % count;
  return order;
}

export class Tree {
  /** @param {Float32Array} points @param {Uint32Array} triangles */
  constructor(points, triangles) {
    this.triangles = triangles;
    this.order = alongCurve(points, triangles);
    this.leaves = 1;
    while (this.leaves * LEAF < this.order.length) this.leaves *= 2;
    this.boxes = new Float32Array(12 * this.leaves);
    this.fit(points);
  }

  /** Fit the boxes to points that have moved. */
  fit(points) {
    this.points = points;
    const { boxes, leaves, order, triangles } = this;
    for (let leaf = 0; leaf < leaves; leaf++) {
      let x0 = Infinity,
        y0 = Infinity,
        z0 = Infinity,
        x1 = -Infinity,
        y1 = -Infinity,
        z1 = -Infinity;
      const end = Math.min((leaf + 1) * LEAF, order.length);
      for (let i = leaf * LEAF; i < end; i++)
        for (let k = 0; k < 3; k++) {
          const p = 3 * triangles[3 * order[i] + k],
            x = points[p],
            y = points[p + 1],
            z = points[p + 2];
          if (x < x0) x0 = x;
          if (x > x1) x1 = x;
          if (y < y0) y0 = y;
          if (y > y1) y1 = y;
          if (z < z0) z0 = z;
          if (z > z1) z1 = z;
        }
      const b = 6 * (leaves + leaf);
      boxes[b] = x0;
      boxes[b + 1] = y0;
      boxes[b + 2] = z0;
      boxes[b + 3] = x1;
      boxes[b + 4] = y1;
      boxes[b + 5] = z1;
    }
    for (let node = leaves - 1; node > 0; node--)
      for (let k = 0; k < 3; k++) {
        const a = 12 * node + k,
          b = 6 * node + k;
        boxes[b] = Math.min(boxes[a], boxes[a + 6]);
        boxes[b + 3] = Math.max(boxes[a + 3], boxes[a + 9]);
      }
  }

  /** Where a ray enters a node's box, or infinity. */
  entry(node, origin, inverse, best) {
    const { boxes } = this;
    let near = 0,
      far = best;
    for (let k = 0; k < 3; k++) {
      const b = 6 * node + k,
        ahead = inverse[k] > 0;
      const enter = (boxes[ahead ? b : b + 3] - origin[k]) * inverse[k],
        leave = (boxes[ahead ? b + 3 : b] - origin[k]) * inverse[k];
      if (enter > near) near = enter;
      if (leave < far) far = leave;
    }
    return near <= far ? near : Infinity;
  }

  /**
   * What a ray meets first: {point: the nearest corner, triangle, distance}, or null.  `passes(triangle)`: it is not
   * to be met.
   * @param {number[]} origin @param {number[]} way @param {(triangle: number) => boolean} [passes]
   */
  hit(origin, way, passes = () => false) {
    const inverse = way.map((v) => 1 / (Math.abs(v) < 1e-12 ? 1e-12 : v));
    const found = { distance: Infinity, triangle: -1, u: 0, v: 0 };
    const stack = [1];
    while (stack.length) {
      const node = stack.pop();
      if (this.entry(node, origin, inverse, found.distance) === Infinity) continue;
      if (node >= this.leaves) this.inLeaf(node - this.leaves, origin, way, passes, found);
      else {
        const a = this.entry(2 * node, origin, inverse, found.distance),
          b = this.entry(2 * node + 1, origin, inverse, found.distance);
        if (a < b) stack.push(2 * node + 1, 2 * node);
        else stack.push(2 * node, 2 * node + 1);
      }
    }
    const { triangle, distance, u, v } = found;
    if (triangle < 0) return null;
    const corner = 1 - u - v >= u && 1 - u - v >= v ? 0 : u >= v ? 1 : 2;
    return { point: this.triangles[3 * triangle + corner], triangle, distance };
  }

  inLeaf(leaf, origin, way, passes, found) {
    const { order } = this,
      end = Math.min((leaf + 1) * LEAF, order.length);
    for (let i = leaf * LEAF; i < end; i++) {
      const met = this.meets(order[i], origin, way);
      if (met && met[0] < found.distance && !passes(order[i]))
        Object.assign(found, { distance: met[0], triangle: order[i], u: met[1], v: met[2] });
    }
  }

  /** Where a ray meets a triangle: [distance, u, v], or nothing. */
  meets(t, [ox, oy, oz], [dx, dy, dz]) {
    const { points: p, triangles } = this,
      a = 3 * triangles[3 * t],
      b = 3 * triangles[3 * t + 1],
      c = 3 * triangles[3 * t + 2];
    const ux = p[b] - p[a],
      uy = p[b + 1] - p[a + 1],
      uz = p[b + 2] - p[a + 2];
    const vx = p[c] - p[a],
      vy = p[c + 1] - p[a + 1],
      vz = p[c + 2] - p[a + 2];
    const px = dy * vz - dz * vy,
      py = dz * vx - dx * vz,
      pz = dx * vy - dy * vx;
    const det = ux * px + uy * py + uz * pz;
    if (Math.abs(det) < FLAT) return null;
    const sx = ox - p[a],
      sy = oy - p[a + 1],
      sz = oz - p[a + 2];
    const u = (sx * px + sy * py + sz * pz) / det;
    if (u < 0 || u > 1) return null;
    const qx = sy * uz - sz * uy,
      qy = sz * ux - sx * uz,
      qz = sx * uy - sy * ux;
    const v = (dx * qx + dy * qy + dz * qz) / det;
    if (v < 0 || u + v > 1) return null;
    const far = (vx * qx + vy * qy + vz * qz) / det;
    return far > 0 ? [far, u, v] : null;
  }

  /** The points of triangles within `radius` of a place, each once: what a brush lies on.  @returns {number[]} */
  near(place, radius) {
    const { boxes, leaves, order, triangles, points } = this,
      found = new Set(),
      most = radius * radius;
    const away = (p) => (points[p] - place[0]) ** 2 + (points[p + 1] - place[1]) ** 2 + (points[p + 2] - place[2]) ** 2;
    const stack = [1];
    while (stack.length) {
      const node = stack.pop();
      let gap = 0;
      for (let k = 0; k < 3; k++) {
        const d = Math.max(boxes[6 * node + k] - place[k], place[k] - boxes[6 * node + 3 + k], 0);
        gap += d * d;
      }
      if (!(gap <= most)) continue;
      if (node < leaves) stack.push(2 * node, 2 * node + 1);
      else {
        const end = Math.min((node - leaves + 1) * LEAF, order.length);
        for (let i = 3 * (node - leaves) * LEAF; i < 3 * end; i++) {
          const p = triangles[3 * order[Math.floor(i / 3)] + (i % 3)];
          if (away(3 * p) <= most) found.add(p);
        }
      }
    }
    return [...found];
  }
}
