// The mesh as it is drawn: corners, colours, values, parts that are hidden or pale; of a pose only what moved is
// written again.
import * as THREE from "three";
import { MODES, makeMaterial, writeNormals } from "./shade.js";
import { Around } from "./around.js";
import { Tree } from "./tree.js";

const LARGE = 100_000; // triangles: from here on what stands still is drawn once a drag
let divisions = 0;

const MOST = 0.4; // of the points: when more has moved, all is written

/** A buffer that changes while it is drawn. */
function buffer(array, size) {
  const b = new THREE.BufferAttribute(array, size);
  b.setUsage(THREE.DynamicDrawUsage);
  return b;
}

export class MeshDrawing {
  constructor(scene) {
    this.scene = scene;
    this.material = makeMaterial();
    this.pale = makeMaterial(this.material);
    /** @type {THREE.Mesh | null} */ this.mesh = null;
    /** @type {THREE.LineSegments | null} */ this.strokes = null;
    /** @type {THREE.LineSegments | null} */ this.wires = null;
    /** @type {Uint8Array | null} */ this.goesOn = null;
    /** @type {Float32Array | null} */ this.points = null;
    /** @type {Float32Array | null} */ this.rest = null;
    /** @type {Uint32Array | null} */ this.triangles = null;
    this.hidden = new Set();
    this.wholeParts = true; // none hidden, none pale
    /** @type {Uint16Array} */ this.partOf = new Uint16Array();
    /** @type {any} */ this.corners = null;
    /** @type {Around | null} */ this.around = null;
    /** @type {Tree | null} */ this.tree = null;
    /** @type {Float32Array | null} */ this.values = null; // that are shown, a value a point
    this.textureUrl = "";
    this.large = LARGE;
    /** @type {{ of: Uint32Array, ends: Uint32Array, faces: Int32Array } | null} */ this.edgeTable = null;
    /** @type {Uint8Array | null} */ this.moves = null; // which triangles have moved in this drag
    /** @type {{ number: number, still: Uint32Array, moving: Uint32Array } | null} */ this.divided = null;
  }

  /** `corners`: where one point is drawn with several; `lines`: drawn lines (see `net/mesh.js`). */
  setMesh({ points, triangles, colours, partOf, goesOn = null, corners = null, lines = null }) {
    Object.assign(this, { rest: points, points, triangles, partOf, goesOn, corners, tree: null, around: null });
    this.setWires(false);
    const from = corners?.points ?? null,
      count = from ? from.length : points.length / 3;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", buffer(new Float32Array(3 * count), 3));
    geometry.setAttribute("normal", buffer(new Float32Array(3 * count), 3));
    geometry.setAttribute("tint", new THREE.BufferAttribute(from ? ofCorners(colours, from) : colours, 3, true));
    geometry.setAttribute("ink", new THREE.BufferAttribute(new Uint8Array(3 * count), 3, true));
    geometry.setAttribute("value", buffer(new Float32Array(count), 1));
    geometry.setAttribute("uv", new THREE.BufferAttribute(corners ? corners.uvs : new Float32Array(2 * count), 2));
    this.drawnTriangles = corners ? corners.triangles : triangles;
    geometry.setIndex(new THREE.BufferAttribute(this.drawnTriangles, 1));
    geometry.boundingSphere = new THREE.Sphere(new THREE.Vector3(), 1e6);
    if (this.mesh) {
      this.scene.remove(this.mesh);
      this.mesh.geometry.dispose();
    }
    this.mesh = new THREE.Mesh(geometry, [this.material, this.pale]);
    this.mesh.frustumCulled = false;
    this.setGroups([this.drawnTriangles.length, 0]);
    this.scene.add(this.mesh);
    this.setLines(lines);
    this.pointNormals = corners ? new Float32Array(points.length) : null;
    this.setPoints(points);
  }

  setLines(lines) {
    if (this.strokes) {
      this.scene.remove(this.strokes);
      this.strokes.geometry.dispose();
      this.strokes = null;
    }
    this.lineEnds = lines?.ends ?? new Uint32Array();
    this.linePart = lines?.partOf ?? new Uint16Array();
    if (!this.lineEnds.length) return;
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(3 * this.lineEnds.length), 3));
    this.strokes = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: 0x22303c }));
    this.strokes.frustumCulled = false;
    this.scene.add(this.strokes);
  }

  setGroups([whole, pale]) {
    const { geometry } = this.mesh;
    geometry.clearGroups();
    geometry.addGroup(0, whole, 0);
    if (pale) geometry.addGroup(whole, pale, 1);
  }

  /** Parts that are left out, and parts that are drawn pale. */
  setParts(hidden, pale) {
    this.hidden = hidden;
    if (!this.mesh) return;
    this.wholeParts = !hidden.size && !pale.size;
    let index = this.drawnTriangles,
      counts = /** @type {[number, number]} */ ([index.length, 0]);
    if (hidden.size || pale.size) {
      const all = index,
        lists = [[], []];
      this.partOf.forEach((part, t) => {
        if (!hidden.has(part)) lists[pale.has(part) ? 1 : 0].push(all[3 * t], all[3 * t + 1], all[3 * t + 2]);
      });
      index = new Uint32Array(lists.flat());
      counts = [lists[0].length, lists[1].length];
    }
    this.mesh.geometry.setIndex(new THREE.BufferAttribute(index, 1));
    this.setGroups(counts);
    this.placeLines(this.points);
  }

  /** A drag begins: nothing has moved yet. */
  beginMoves() {
    this.moves = null;
    this.divided = null;
  }

  /** Whether what stands still is worth a picture of its own. */
  get divides() {
    return !!this.mesh && this.triangles.length / 3 > this.large && !this.corners && !this.strokes && this.wholeParts;
  }

  /** The triangles that stand still in this drag and those that moved; `number` tells one division from another. */
  division() {
    if (this.divided) return this.divided;
    const { triangles, moves } = this,
      count = moves ? moves.reduce((sum, m) => sum + m, 0) : 0;
    let still = triangles,
      moving = new Uint32Array();
    if (count) {
      moving = new Uint32Array(3 * count);
      still = new Uint32Array(triangles.length - 3 * count);
      let a = 0,
        b = 0;
      for (let t = 0; t < moves.length; t++)
        for (let k = 0; k < 3; k++)
          if (moves[t]) moving[a++] = triangles[3 * t + k];
          else still[b++] = triangles[3 * t + k];
    }
    divisions += 1;
    this.divided = { number: divisions, still, moving };
    return this.divided;
  }

  /** Put the points where they are now.  `ranges`: of which points, [first, count, …]; none: of all. */
  setPoints(points, ranges = null) {
    const same = points === this.points; // ranges tell what moved of the points that were drawn last
    this.points = points;
    this.fitted = false;
    const moved = ranges && same ? ranges.reduce((sum, n, i) => sum + (i % 2 ? n : 0), 0) : Infinity;
    if (!this.corners && moved < (MOST * points.length) / 3) this.setSome(points, ranges);
    else this.setAll(points);
    this.placeLines(points);
  }

  setAll(points) {
    this.moves = null;
    this.divided = null;
    const { position, normal } = /** @type {Record<string, THREE.BufferAttribute>} */ (this.mesh.geometry.attributes);
    const at = /** @type {Float32Array} */ (position.array),
      ways = /** @type {Float32Array} */ (normal.array);
    if (!this.corners) {
      at.set(points);
      writeNormals(points, this.triangles, ways);
    } else {
      const { points: from, smooth, triangles } = this.corners;
      from.forEach((p, i) => {
        for (let k = 0; k < 3; k++) at[3 * i + k] = points[3 * p + k];
      });
      writeNormals(at, triangles, ways); // right for hard corners; smooth ones take their point's
      writeNormals(points, this.triangles, this.pointNormals);
      from.forEach((p, i) => {
        if (smooth[i]) for (let k = 0; k < 3; k++) ways[3 * i + k] = this.pointNormals[3 * p + k];
      });
    }
    for (const b of [position, normal]) {
      b.clearUpdateRanges();
      b.needsUpdate = true;
    }
  }

  /** Only some points moved: their places, and the normals of all that touches them. */
  setSome(points, ranges) {
    this.around ??= new Around(this.triangles, points.length / 3);
    const { position, normal } = /** @type {Record<string, THREE.BufferAttribute>} */ (this.mesh.geometry.attributes);
    const at = /** @type {Float32Array} */ (position.array),
      ways = /** @type {Float32Array} */ (normal.array);
    for (let r = 0; r < ranges.length; r += 2) {
      const first = 3 * ranges[r],
        count = 3 * ranges[r + 1];
      at.set(points.subarray(first, first + count), first);
      position.addUpdateRange(first, count);
    }
    const touched = this.around.touched(ranges);
    this.around.writeNormals(points, touched, ways);
    for (const [first, count] of touched.runs) normal.addUpdateRange(3 * first, 3 * count);
    position.needsUpdate = normal.needsUpdate = true;
    if (!this.divides) return;
    this.moves ??= new Uint8Array(this.triangles.length / 3);
    if (this.around.mark(touched.points, this.moves)) this.divided = null;
  }

  placeLines(points) {
    if (!this.strokes || !points) return;
    const at = this.strokes.geometry.attributes.position;
    this.lineEnds.forEach((p, i) => {
      const away = this.hidden.has(this.linePart[i >> 1]);
      for (let k = 0; k < 3; k++) at.array[3 * i + k] = away ? 0 : points[3 * p + k];
    });
    at.needsUpdate = true;
  }

  /** Whether what has no value at all is faded while values are shown. */
  setAlone(on) {
    for (const m of [this.material, this.pale]) m.uniforms.alone.value = on;
  }

  /** Colour by a value per point along the ember ramp; null goes back to the working shading. */
  setValues(values, shading) {
    for (const m of [this.material, this.pale]) m.uniforms.mode.value = values ? MODES.ramp : MODES[shading];
    this.values = values;
    if (!values || !this.mesh) return;
    this.writeValues();
  }

  /** Every point in an ink of its own: three bytes each. */
  setInks(inks) {
    this.values = null;
    for (const m of [this.material, this.pale]) m.uniforms.mode.value = MODES.inks;
    const { ink } = this.mesh.geometry.attributes,
      from = this.corners?.points;
    /** @type {Uint8Array} */ (ink.array).set(from ? ofCorners(inks, from) : inks);
    ink.needsUpdate = true;
    this.divided = null;
  }

  writeValues() {
    const { values } = this,
      { value } = this.mesh.geometry.attributes;
    if (!this.corners) /** @type {Float32Array} */ (value.array).set(values);
    else
      this.corners.points.forEach((p, i) => {
        value.array[i] = values[p];
      });
    value.needsUpdate = true;
    this.divided = null;
  }

  /**
   * Some points as they are by now: places (three numbers each), and values, where values are shown.
   * @param {Float32Array} at @param {Float32Array} places @param {Float32Array} values
   */
  setPatch(at, places, values) {
    const { points } = this,
      ranges = [];
    at.forEach((i, k) => {
      for (let c = 0; c < 3; c++) points[3 * i + c] = places[3 * k + c];
      const last = ranges.length - 2;
      if (last >= 0 && ranges[last] + ranges[last + 1] === i) ranges[last + 1] += 1;
      else ranges.push(i, 1);
    });
    this.setPoints(points, ranges);
    if (!this.values || !values) return;
    at.forEach((i, k) => {
      this.values[i] = values[k];
    });
    this.writeValues();
  }

  setTexture(url, shown) {
    if (url === this.textureUrl) return;
    this.textureUrl = url;
    const put = (t) => {
      for (const m of [this.material, this.pale]) m.uniforms.map.value = t;
    };
    put(null);
    if (!url) return;
    new THREE.TextureLoader().load(url, (t) => {
      t.flipY = false;
      t.colorSpace = THREE.NoColorSpace;
      put(t);
      shown();
    });
  }

  /** Every edge once: its two ends, and the triangles on both sides (−1 where there is none). */
  edges() {
    if (this.edgeTable?.of === this.triangles) return this.edgeTable;
    const t = this.triangles,
      seen = new Map(),
      ends = [],
      faces = [];
    for (let i = 0; i < t.length; i++) {
      const a = t[i],
        b = t[i % 3 === 2 ? i - 2 : i + 1],
        key = a < b ? a * 16777216 + b : b * 16777216 + a,
        known = seen.get(key);
      if (known === undefined) {
        seen.set(key, faces.length / 2);
        ends.push(a, b);
        faces.push(Math.floor(i / 3), -1);
      } else faces[2 * known + 1] = Math.floor(i / 3);
    }
    this.edgeTable = { of: t, ends: Uint32Array.from(ends), faces: Int32Array.from(faces) };
    return this.edgeTable;
  }

  /** The edges of the faces as fine lines over the mesh, or not. */
  setWires(on) {
    if (this.wires) {
      this.scene.remove(this.wires);
      this.wires.geometry.dispose();
      this.wires = null;
    }
    if (!on || !this.mesh) return;
    const { ends, faces } = this.edges(),
      from = this.corners?.points,
      drawn = from ? new Uint32Array(this.points.length / 3) : null; // a corner of each point
    if (drawn) from.forEach((p, i) => (drawn[p] = i));
    const index = [];
    for (let e = 0; e < faces.length / 2; e++) {
      const [a, b] = [faces[2 * e], faces[2 * e + 1]].sort((x, y) => x - y);
      if (a >= 0 && b === a + 1 && this.goesOn?.[b]) continue; // within a face
      for (const p of [ends[2 * e], ends[2 * e + 1]]) index.push(drawn ? drawn[p] : p);
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", this.mesh.geometry.attributes.position);
    geometry.setIndex(index);
    const ink = new THREE.LineBasicMaterial({ color: 0x22303c, transparent: true, opacity: 0.28 });
    this.wires = new THREE.LineSegments(geometry, ink);
    this.wires.frustumCulled = false;
    this.scene.add(this.wires);
  }

  /** The tree over the triangles, fitted to where the points are. */
  fittedTree() {
    if (!this.tree) this.tree = new Tree(this.points, this.triangles);
    else if (!this.fitted) this.tree.fit(this.points);
    this.fitted = true;
    return this.tree;
  }

  /** What a ray meets first, leaving out parts that are `away(part)`. */
  hit([origin, way], away) {
    if (!this.mesh || !this.triangles.length) return null;
    return this.fittedTree().hit(origin, way, (t) => away(this.partOf[t]));
  }

  /** How far points lie apart at rest, metres: in the middle of some hundred triangles' first sides. */
  spacing() {
    const { triangles, rest } = this,
      step = 3 * Math.max(Math.floor(triangles.length / 900), 1),
      long = [];
    for (let t = 0; t < triangles.length; t += step) {
      const a = 3 * triangles[t],
        b = 3 * triangles[t + 1];
      long.push(Math.hypot(rest[a] - rest[b], rest[a + 1] - rest[b + 1], rest[a + 2] - rest[b + 2]));
    }
    return long.sort((x, y) => x - y)[long.length >> 1] ?? 0;
  }

  /** The points within a radius of a place: what a brush lies on. */
  near(place, radius) {
    return this.mesh ? this.fittedTree().near(place, radius) : [];
  }
}

/** Values per point as values per corner, three each. */
function ofCorners(values, from) {
  const out = new Uint8Array(3 * from.length);
  from.forEach((p, i) => {
    for (let k = 0; k < 3; k++) out[3 * i + k] = values[3 * p + k];
  });
  return out;
}
