// The plate: front, side and top drawings on one scale beside a free view, all of the same scene.
//
// Events (plain callbacks): onPickJoint(name), onPickControl(name), onPickPoint(index), onDragJoint(name, place, done),
// onDragControl({control, kind, to | by, done}), onDragChannel({control, channel, by, done}) → what it is now, in
// words,
// onDragLandmark(name, place, done).  While a tool is set, clicks and
// hovers go to it: tool.click(spot), tool.hover(spot), spot = {view, ray, hit, place, metre}.  The plate holds no
// rule of the job: it draws and listens.
import * as THREE from "three";
import { OrbitControls } from "three/orbit";
import { fullName, h } from "./dom.js";
import { drawAxes, drawControls, drawJoints, drawMarks, drawTip, drawWishes } from "./figures.js";
import { drawGrid, drawPaper, drawPictures, drawTies } from "./paper.js";
import { FLAT, RULER, dot, plus, rotated, toSegment } from "./sheet.js";
import { MODES, hitMesh, makeMaterial, writeNormals } from "./shade.js";

const DOCK = 62; // the height of the tools with the paper under them
const ROOM = 22; // what is left round the whole figure
const SPAN = 220; // pixels of a drag that lead a channel through its whole range
const NEAR = 9,
  SAME = 3; // pixels: how near is on an outline, and by how much two are equally near

export class Plate {
  constructor(stage, events) {
    this.stage = stage;
    this.events = events;
    this.lines = stage.querySelector("#line-canvas");
    this.over = this.lines.getContext("2d");
    this.papers = stage.querySelector("#paper-canvas");
    this.under = this.papers.getContext("2d");
    this.pen = this.over;
    const smooth = new URLSearchParams(location.search).get("aa") !== "0";
    this.renderer = new THREE.WebGLRenderer({
      canvas: stage.querySelector("#mesh-canvas"),
      antialias: smooth,
      alpha: true,
    });
    // ?aa=0: for machines that draw without a GPU
    this.renderer.setPixelRatio(smooth ? Math.min(devicePixelRatio, 2) : 0.5);
    this.scene = new THREE.Scene();
    this.material = makeMaterial();
    this.views = {};
    for (const name of ["front", "side", "top", "free"]) this.addView(name);
    this.flatCamera = new THREE.OrthographicCamera();
    this.camera = new THREE.PerspectiveCamera(28, 1, 0.01, 200);
    this.orbit = new OrbitControls(this.camera, this.views.free.div);
    this.orbit.enableDamping = false;
    this.orbit.addEventListener("change", () => this.draw());
    this.orbit.addEventListener("start", () => {
      this.looked = true;
    }); // from now on the eye stays where it was put
    this.heading = 0; // pixels at the upper edge of a large view that are taken, as by a line of words
    this.tip = null; // words at the pointer: {x, y, text}
    this.large = "";
    this.layers = { joints: true, controls: false };
    this.aside = new Set(); // joints and controls that are faded and out of reach, as `joint:…` and `control:…`
    /** @type {Set<string> | null} */
    this.levels = null; // the sets of controls that are shown; none: all
    this.grip = "move"; // what dragging a control does: move or turn
    this.tool = null;
    this.wishes = [];
    this.landmarks = [];
    this.pictures = [];
    this.pictureFiles = new Map();
    this.axesShown = false;
    this.joints = [];
    this.controls = [];
    this.children = new Map();
    this.frames = null;
    this.controlFrames = null;
    this.selected = { joint: "", control: "" };
    this.hovered = "";
    this.hiddenParts = new Set();
    this.marked = [];
    this.focus = [0, 0.5, 0];
    this.scale = 300;
    this.pending = false;
    new ResizeObserver(() => this.layout()).observe(stage);
  }

  addView(name) {
    const title = { front: "front", side: "side", top: "top", free: "free view" }[name];
    const grow = h(
      "button",
      { class: "quiet", title: `Make the ${title} large, or small again`, "aria-label": `${title} large or small` },
      "⤢",
    );
    const div = h("div", { class: `view-${name}`, "data-view": name }, h("em", {}, title), grow);
    grow.addEventListener("click", () => this.setLarge(this.large === name ? "" : name));
    this.stage.querySelector("#views").append(div);
    div.addEventListener("pointerdown", (e) => this.down(e, name), true);
    div.addEventListener("pointermove", (e) => this.hover(e, name));
    div.addEventListener("dblclick", () => this.home());
    div.addEventListener("pointerleave", () => {
      if (this.tip && !this.dragging) {
        this.tip = null;
        this.hovered = "";
        this.draw();
      }
    });
    if (name !== "free") div.addEventListener("wheel", (e) => this.wheel(e, name), { passive: false });
    this.views[name] = { div, rect: null };
  }

  // -- what is shown ----------------------------------------------------------------------------------------------
  /**
   * `corners`: where one point is drawn with several corners, {points, triangles, uvs, smooth}; `lines`: {ends,
   * partOf}.
   */
  setMesh({ points, triangles, colours, partOf, corners = null, lines = null }) {
    this.rest = points;
    this.triangles = triangles;
    this.partOf = partOf;
    this.points = points;
    this.corners = corners;
    const drawn = corners ? corners.points : null,
      count = drawn ? drawn.length : points.length / 3;
    const geometry = new THREE.BufferGeometry();
    const buffer = (array, size) => {
      const b = new THREE.BufferAttribute(array, size);
      b.setUsage(THREE.DynamicDrawUsage);
      return b;
    };
    let tint = colours;
    if (drawn) {
      tint = new Uint8Array(3 * count);
      for (let i = 0; i < count; i++) for (let k = 0; k < 3; k++) tint[3 * i + k] = colours[3 * drawn[i] + k];
    }
    geometry.setAttribute("position", buffer(new Float32Array(3 * count), 3));
    geometry.setAttribute("normal", buffer(new Float32Array(3 * count), 3));
    geometry.setAttribute("tint", new THREE.BufferAttribute(new Uint8Array(tint), 3, true));
    geometry.setAttribute("value", buffer(new Float32Array(count), 1));
    geometry.setAttribute("uv", new THREE.BufferAttribute(corners ? corners.uvs : new Float32Array(2 * count), 2));
    this.drawnTriangles = corners ? corners.triangles : triangles;
    geometry.setIndex(new THREE.BufferAttribute(this.drawnTriangles, 1));
    geometry.boundingSphere = new THREE.Sphere(new THREE.Vector3(), 1e6);
    if (this.mesh) {
      this.scene.remove(this.mesh);
      this.mesh.geometry.dispose();
    }
    this.mesh = new THREE.Mesh(geometry, this.material);
    this.mesh.frustumCulled = false;
    this.scene.add(this.mesh);
    this.setLines(lines);
    this.pointNormals = corners ? new Float32Array(points.length) : null;
    this.box = new THREE.Box3().setFromArray(points);
    this.setPoints(points);
    this.layout();
    this.home();
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

  /** Which parts are hidden: their triangles are left out of the drawing. */
  setHidden(hidden, locked = new Set()) {
    this.hiddenParts = hidden;
    this.outOfReach = new Set([...hidden, ...locked]); // what a click can't grab
    if (!this.mesh) return;
    let index = this.drawnTriangles;
    if (hidden.size) {
      const keep = [];
      for (let t = 0; t < this.partOf.length; t++)
        if (!hidden.has(this.partOf[t])) keep.push(index[3 * t], index[3 * t + 1], index[3 * t + 2]);
      index = new Uint32Array(keep);
    }
    this.mesh.geometry.setIndex(new THREE.BufferAttribute(index, 1));
    this.draw();
  }

  setPoints(points) {
    this.points = points;
    const g = this.mesh.geometry,
      position = g.attributes.position.array,
      normal = g.attributes.normal.array;
    if (!this.corners) {
      position.set(points);
      writeNormals(points, this.triangles, normal);
    } else {
      const { points: from, smooth, triangles } = this.corners;
      for (let i = 0; i < from.length; i++) {
        const k = 3 * from[i],
          m = 3 * i;
        position[m] = points[k];
        position[m + 1] = points[k + 1];
        position[m + 2] = points[k + 2];
      }
      writeNormals(position, triangles, normal); // right for hard corners; smooth ones take their point's
      writeNormals(points, this.triangles, this.pointNormals);
      const n = this.pointNormals;
      for (let i = 0; i < from.length; i++)
        if (smooth[i]) {
          const k = 3 * from[i],
            m = 3 * i;
          normal[m] = n[k];
          normal[m + 1] = n[k + 1];
          normal[m + 2] = n[k + 2];
        }
    }
    g.attributes.position.needsUpdate = g.attributes.normal.needsUpdate = true;
    if (this.strokes) {
      const at = this.strokes.geometry.attributes.position;
      this.lineEnds.forEach((p, i) => {
        const away = this.hiddenParts.has(this.linePart[i >> 1]);
        for (let k = 0; k < 3; k++) at.array[3 * i + k] = away ? 0 : points[3 * p + k];
      });
      at.needsUpdate = true;
    }
    this.draw();
  }

  /** Colour by a value per point along the ember ramp; null goes back to the working shading. */
  setValues(values, shading = "clay") {
    this.material.uniforms.mode.value = values ? MODES.ramp : MODES[shading];
    if (values && this.mesh) {
      const out = this.mesh.geometry.attributes.value.array;
      if (!this.corners) out.set(values);
      else
        this.corners.points.forEach((p, i) => {
          out[i] = values[p];
        });
      this.mesh.geometry.attributes.value.needsUpdate = true;
    }
    this.draw();
  }

  /** A picture for the texture shading, or null. */
  setTexture(url) {
    if (url === this.textureUrl) return;
    this.textureUrl = url;
    const u = this.material.uniforms;
    u.map.value = null;
    if (url)
      new THREE.TextureLoader().load(url, (t) => {
        t.flipY = false;
        t.colorSpace = THREE.NoColorSpace;
        u.map.value = t;
        this.draw();
      });
  }

  /** Reference pictures: their places, and their files loaded once. */
  setPictures(pictures, urlOf) {
    this.pictures = pictures;
    for (const q of pictures) {
      if (this.pictureFiles.has(q.key)) continue;
      const image = new Image();
      image.onload = () => this.draw();
      image.src = urlOf(q);
      this.pictureFiles.set(q.key, image);
    }
    this.draw();
  }

  setSkeleton(joints, controls) {
    this.joints = joints;
    this.controls = controls;
    this.index = new Map(joints.map((j, i) => [j.name, i]));
    this.frames = null;
    this.controlFrames = null;
    this.preview = null;
    this.draw();
  }

  setFrame({ points, joints, controls }) {
    this.frames = joints;
    this.controlFrames = controls.length === 12 * this.controls.length ? controls : null;
    this.controlsAway = !this.controlFrames;
    this.setPoints(points);
  }

  setPreview(places) {
    this.preview = places;
    this.draw();
  }
  setLarge(name) {
    this.large = name;
    this.layout();
  }

  jointPlace(i) {
    const j = this.joints[i];
    if (this.preview && this.preview[j.name]) return this.preview[j.name];
    if (!this.frames) return j.place;
    return [this.frames[12 * i + 3], this.frames[12 * i + 7], this.frames[12 * i + 11]];
  }

  pointPlace(i) {
    return [this.points[3 * i], this.points[3 * i + 1], this.points[3 * i + 2]];
  }

  controlPlace(i) {
    if (!this.controlFrames) return this.controls[i].place;
    const f = this.controlFrames,
      k = 12 * i;
    return [f[k + 3], f[k + 7], f[k + 11]];
  }

  controlLine(i) {
    const c = this.controls[i],
      f = this.controlFrames,
      k = 12 * i;
    if (!f) return c.outline.map((p) => plus(c.place, rotated(c.turn, p)));
    return c.outline.map(([x, y, z]) => [
      f[k] * x + f[k + 1] * y + f[k + 2] * z + f[k + 3],
      f[k + 4] * x + f[k + 5] * y + f[k + 6] * z + f[k + 7],
      f[k + 8] * x + f[k + 9] * y + f[k + 10] * z + f[k + 11],
    ]);
  }

  // -- layout -----------------------------------------------------------------------------------------------------
  layout() {
    const w = this.stage.clientWidth,
      high = this.stage.clientHeight;
    if (!w || !high) return;
    this.width = w;
    this.high = high;
    this.renderer.setSize(w, high, false);
    const ratio = Math.min(devicePixelRatio, 2);
    for (const [canvas, pen] of [
      [this.lines, this.over],
      [this.papers, this.under],
    ]) {
      canvas.width = w * ratio;
      canvas.height = high * ratio;
      pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    }
    for (const [name, view] of Object.entries(this.views)) {
      view.rect = this.rectFor(name, w, high);
      view.div.hidden = !view.rect;
      view.div.classList.toggle("large", this.large === name);
      if (view.rect)
        Object.assign(view.div.style, {
          left: `${view.rect.x}px`,
          top: `${view.rect.y}px`,
          width: `${view.rect.w}px`,
          height: `${view.rect.h}px`,
        });
    }
    const free = this.views.free.rect;
    if (free) {
      this.camera.aspect = free.w / free.h;
      // The tools lie over the lower edge of a large view: the picture's middle is the middle of what they leave.
      if (this.large === "free")
        this.camera.setViewOffset(free.w, free.h, 0, (DOCK - this.heading) / 2, free.w, free.h);
      else this.camera.clearViewOffset();
      this.camera.updateProjectionMatrix();
    }
    this.fit();
    if (!this.looked) this.frame();
  }

  rectFor(name, w, high) {
    if (this.large) return this.large === name ? { x: 0, y: 0, w, h: high } : null;
    const s = this.sizes(),
      room = high - DOCK; // the tools lie over the lower edge
    const split = Math.min(Math.max((w - RULER) * (s.x / (s.x + s.z)), 0.3 * w), 0.62 * w);
    const row = Math.min(Math.max(room * (s.y / (s.y + s.z)), 0.45 * room), 0.62 * room);
    return {
      front: { x: RULER, y: 0, w: split, h: row },
      side: { x: RULER + split, y: 0, w: w - RULER - split, h: row },
      top: { x: RULER, y: row, w: split, h: room - row },
      free: { x: RULER + split + 2, y: row + 4, w: w - RULER - split - 8, h: room - row - 8 },
    }[name];
  }

  sizes() {
    const v = this.box ? this.box.getSize(new THREE.Vector3()) : { x: 1, y: 1, z: 1 };
    return { x: Math.max(v.x, 1e-3), y: Math.max(v.y, 1e-3), z: Math.max(v.z, 1e-3) };
  }

  /** Choose the one scale at which the whole figure fits every drawing that is shown. */
  fit() {
    if (!this.box) return;
    const s = this.sizes(),
      need = { front: [s.x, s.y], side: [s.z, s.y], top: [s.x, s.z] };
    let scale = Infinity;
    for (const [name, [a, b]] of Object.entries(need)) {
      const r = this.views[name].rect;
      if (r) scale = Math.min(scale, r.w / (1.06 * a), (r.h - 30) / (1.04 * b));
    }
    this.scale = Number.isFinite(scale) ? scale : 300;
    const c = this.box.getCenter(new THREE.Vector3());
    this.focus = [c.x, c.y + 9 / this.scale, c.z];
    this.draw();
  }

  home() {
    if (!this.box) return;
    this.looked = false;
    this.fit();
    this.frame();
  }

  /** Put the eye of the free view where the whole figure is in the room that is really free. */
  frame() {
    const r = this.views.free.rect;
    if (!this.box || !r) return;
    const c = this.box.getCenter(new THREE.Vector3());
    const out = new THREE.Vector3(0.46, 0.16, 0.88).normalize();
    const right = new THREE.Vector3(0, 1, 0).cross(out).normalize(),
      up = new THREE.Vector3().crossVectors(out, right);
    const half = Math.tan((this.camera.fov * Math.PI) / 360),
      taken = this.large === "free" ? DOCK + this.heading : 0;
    const tall = (half * Math.max(r.h - taken - 2 * ROOM, 40)) / r.h,
      wide = (half * Math.max(r.w - 2 * ROOM, 40)) / r.h;
    const some = [],
      p = new THREE.Vector3(),
      count = this.rest.length / 3,
      step = Math.max(1, Math.floor(count / 4000));
    for (let i = 0; i < count; i += step) {
      p.set(this.rest[3 * i], this.rest[3 * i + 1], this.rest[3 * i + 2]).sub(c);
      some.push([p.dot(right), p.dot(up), p.dot(out)]);
    }
    let far = 0,
      x = 0,
      y = 0; // how far off, and what the eye looks at, beside the middle
    for (let turn = 0; turn < 4; turn++) {
      far = 1e-3;
      for (const [a, b, d] of some) far = Math.max(far, d + Math.abs(b - y) / tall, d + Math.abs(a - x) / wide);
      let left = Infinity,
        right1 = -Infinity,
        low = Infinity,
        high = -Infinity;
      for (const [a, b, d] of some) {
        const u = (a - x) / (far - d),
          v = (b - y) / (far - d);
        left = Math.min(left, u);
        right1 = Math.max(right1, u);
        low = Math.min(low, v);
        high = Math.max(high, v);
      }
      x += 0.5 * (left + right1) * far;
      y += 0.5 * (low + high) * far;
    }
    for (const [a, b, d] of some) far = Math.max(far, d + Math.abs(b - y) / tall, d + Math.abs(a - x) / wide);
    c.addScaledVector(right, x).addScaledVector(up, y);
    this.camera.near = far / 50;
    this.camera.far = far * 20;
    this.camera.position.copy(c).addScaledVector(out, far);
    this.camera.updateProjectionMatrix();
    this.orbit.target.copy(c);
    this.orbit.update();
    this.draw();
  }

  // -- from the world to the sheet and back ------------------------------------------------------------------------
  project(name, p) {
    const r = this.views[name].rect;
    if (name === "free") {
      const v = new THREE.Vector3(...p).project(this.camera);
      return [r.x + (v.x * 0.5 + 0.5) * r.w, r.y + (0.5 - v.y * 0.5) * r.h, v.z];
    }
    const f = FLAT[name],
      d = plus(p, this.focus, -1);
    return [r.x + r.w / 2 + dot(d, f.right) * this.scale, r.y + r.h / 2 - dot(d, f.up) * this.scale, -dot(d, f.out)];
  }

  /** The world's move for a move of (dx, dy) pixels at a place. */
  unproject(name, p, dx, dy) {
    if (name !== "free") {
      const f = FLAT[name];
      return plus(plus(p, f.right, dx / this.scale), f.up, -dy / this.scale);
    }
    const e = this.camera.matrixWorld.elements,
      r = this.views.free.rect;
    const depth = -new THREE.Vector3(...p).applyMatrix4(this.camera.matrixWorldInverse).z;
    const per = (2 * depth * Math.tan((this.camera.fov * Math.PI) / 360)) / r.h;
    return plus(plus(p, [e[0], e[1], e[2]], dx * per), [e[4], e[5], e[6]], -dy * per);
  }

  axes(name) {
    if (name !== "free") return FLAT[name];
    const e = this.camera.matrixWorld.elements;
    return { right: [e[0], e[1], e[2]], up: [e[4], e[5], e[6]], out: [e[8], e[9], e[10]] };
  }

  at(event) {
    const box = this.stage.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  // -- picking and dragging ----------------------------------------------------------------------------------------
  nearestJoint(name, x, y, within = 11) {
    let best = within,
      found = -1;
    for (let i = 0; i < this.joints.length; i++) {
      const [px, py] = this.project(name, this.jointPlace(i));
      if (this.aside.has(`joint:${this.joints[i].name}`)) continue;
      const d = Math.hypot(px - x, py - y) - (this.joints[i].name === this.selected.joint ? 3 : 0);
      if (d < best) {
        best = d;
        found = i;
      }
    }
    return found;
  }

  nearestControl(name, x, y, within = NEAR) {
    return this.controlsAt(name, x, y, within)[0] ?? -1;
  }

  /**
   * Controls whose outlines are near a place, the one that is meant first: the nearest, and of equally near ones the
   * smallest.
   */
  controlsAt(name, x, y, within = NEAR) {
    const found = [];
    for (let i = 0; i < this.controls.length; i++) {
      if (!this.showsControl(i) || this.aside.has(`control:${this.controls[i].name}`)) continue;
      const line = this.controlLine(i).map((p) => this.project(name, p));
      let d = Infinity,
        size = 0;
      for (let k = 0; k < line.length; k++) {
        const next = line[(k + 1) % line.length];
        d = Math.min(d, toSegment(x, y, line[k], next));
        size += Math.hypot(next[0] - line[k][0], next[1] - line[k][1]);
      }
      if (d < within) found.push({ i, d, size });
    }
    const nearest = Math.min(...found.map((f) => f.d));
    return found
      .sort((a, b) => (a.d < nearest + SAME && b.d < nearest + SAME ? a.size - b.size : a.d - b.d))
      .map((f) => f.i);
  }

  /** What dragging a control does: turn it, move it, or lead its first channel. */
  dragKind(c) {
    const free = c.channels.filter((k) => !k.locked),
      has = (kind) => free.some((k) => k.name.startsWith(`${kind} `));
    if (has("turn") && (!has("move") || this.grip === "turn")) return { kind: "turn" };
    if (has("move")) return { kind: "move" };
    const channel = free.find((k) => !k.name.startsWith("in "));
    return channel ? { kind: "channel", channel: channel.name } : { kind: "nothing" };
  }

  /** What the pointer is on, in words: the outline's name, what a drag does there, and what else lies under it. */
  tipFor(found) {
    const c = this.controls[found[0]],
      way = this.dragKind(c);
    const does = {
      turn: "drag turns it",
      move: "drag moves it",
      channel: `drag: ${way.channel}`,
      nothing: "nothing to drag",
    }[way.kind];
    return `${fullName(c.name)} · ${does}${
      found.length > 1
        ? `; behind it ${found
            .slice(1, 3)
            .map((i) => fullName(this.controls[i].name))
            .join(", ")}`
        : ""
    }`;
  }

  showsControl(i) {
    return !this.levels || this.levels.has(this.controls[i].level);
  }

  ray(name, x, y) {
    const r = this.views[name].rect;
    if (name === "free") {
      const v = new THREE.Vector3(((x - r.x) / r.w) * 2 - 1, 1 - ((y - r.y) / r.h) * 2, 0.5).unproject(this.camera);
      const o = this.camera.position.toArray(),
        d = plus(v.toArray(), o, -1),
        n = Math.hypot(...d);
      return [o, d.map((k) => k / n)];
    }
    const f = FLAT[name];
    const p = plus(
      plus(this.focus, f.right, (x - r.x - r.w / 2) / this.scale),
      f.up,
      -(y - r.y - r.h / 2) / this.scale,
    );
    return [plus(p, f.out, 50), f.out.map((k) => -k)];
  }

  /** What of the mesh a ray meets first: {point, triangle, distance}, or null. */
  hit(ray) {
    return this.mesh
      ? hitMesh(...ray, this.points, this.triangles, this.outOfReach ?? this.hiddenParts, this.partOf)
      : null;
  }

  /** What a click or hover at a place of a view means for a tool. */
  spot(name, x, y) {
    const ray = this.ray(name, x, y),
      hit = this.hit(ray);
    const place = hit ? plus(ray[0], ray[1], hit.distance) : null;
    const [ax, ay] = [this.unproject(name, place ?? this.focus, 0, 0), this.unproject(name, place ?? this.focus, 1, 0)];
    return { view: name, x, y, ray, hit, place, metre: Math.hypot(...plus(ay, ax, -1)) };
  }

  nearestLandmark(name, x, y, within = 11) {
    let best = within,
      found = null;
    for (const m of this.landmarks) {
      const [px, py] = this.project(name, m.place),
        d = Math.hypot(px - x, py - y);
      if (d < best) {
        best = d;
        found = m;
      }
    }
    return found;
  }

  hover(event, name) {
    if (this.dragging) return;
    const [x, y] = this.at(event);
    const m = this.landmarks.length ? this.nearestLandmark(name, x, y) : null;
    if (this.tool && !m) {
      this.tool.hover?.(this.spot(name, x, y));
      this.views[name].div.style.cursor = "crosshair";
      return;
    }
    const at = !m && this.layers.controls && !this.controlsAway ? this.controlsAt(name, x, y) : [],
      c = at[0] ?? -1;
    const tip = c >= 0 ? { x, y, text: this.tipFor(at) } : null;
    if (tip?.text !== this.tip?.text) this.draw();
    this.tip = tip;
    const j = !m && c < 0 && this.layers.joints ? this.nearestJoint(name, x, y) : -1;
    const now = m ? m.name : c >= 0 ? this.controls[c].name : j >= 0 ? this.joints[j].name : "";
    if (now !== this.hovered) {
      this.hovered = now;
      this.draw();
    }
    this.views[name].div.style.cursor = now ? "grab" : "";
    this.events.onHover?.(now);
  }

  down(event, name) {
    if (event.target.closest("button") || event.button === 1) return;
    this.stage.focus({ preventScroll: true });
    const [x, y] = this.at(event);
    if (event.button === 0 && !event.shiftKey) {
      const m = this.landmarks.length ? this.nearestLandmark(name, x, y) : null;
      if (m) {
        const start = m.place;
        return this.follow(event, (dx, dy, done) =>
          this.events.onDragLandmark(m.name, this.unproject(name, start, dx, dy), done),
        );
      }
      if (this.tool) {
        event.preventDefault();
        event.stopImmediatePropagation();
        this.tool.click(this.spot(name, x, y));
        return;
      }
      const on = this.layers.joints ? this.nearestJoint(name, x, y, 5) : -1; // right on a joint: it is meant
      if (on >= 0) return this.dragJoint(event, name, on);
      const c = this.layers.controls && !this.controlsAway ? this.nearestControl(name, x, y) : -1;
      if (c >= 0) return this.dragControl(event, name, c);
      const j = this.layers.joints ? this.nearestJoint(name, x, y) : -1;
      if (j >= 0) return this.dragJoint(event, name, j);
      if (this.events.onPickPoint) {
        const hit = this.hit(this.ray(name, x, y));
        if (hit) this.events.onPickPoint(hit.point, hit);
      }
    }
    if (name !== "free") this.pan(event, name);
  }

  /** Follow the pointer until it lets go.  `moved(dx, dy, done)` gets pixels from the start. */
  follow(event, moved) {
    event.preventDefault();
    event.stopImmediatePropagation();
    const [x0, y0] = this.at(event);
    const div = event.currentTarget;
    this.dragging = true;
    this.orbit.enabled = false;
    div.setPointerCapture(event.pointerId);
    let went = false;
    const move = (e) => {
      const [x, y] = this.at(e);
      went ||= Math.hypot(x - x0, y - y0) > 2;
      if (went) moved(x - x0, y - y0, false, e);
    };
    const stop = (e) => {
      div.removeEventListener("pointermove", move);
      div.removeEventListener("pointerup", stop);
      div.removeEventListener("pointercancel", stop);
      this.dragging = false;
      this.orbit.enabled = true;
      const [x, y] = this.at(e);
      if (went) moved(x - x0, y - y0, true, e);
    };
    div.addEventListener("pointermove", move);
    div.addEventListener("pointerup", stop);
    div.addEventListener("pointercancel", stop);
  }

  dragJoint(event, name, i) {
    const joint = this.joints[i].name,
      start = this.jointPlace(i);
    this.events.onPickJoint(joint);
    if (this.frames) {
      // posed: the joints above it turn so that it comes along
      this.events.onGrab("");
      return this.follow(event, (dx, dy, done) =>
        this.events.onReach(joint, this.unproject(name, start, dx, dy), done),
      );
    }
    this.follow(event, (dx, dy, done) => this.events.onDragJoint(joint, this.unproject(name, start, dx, dy), done));
  }

  dragControl(event, name, i) {
    const c = this.controls[i],
      start = this.controlPlace(i),
      way = this.dragKind(c),
      turning = way.kind === "turn";
    this.events.onPickControl(c.name);
    const [x0, y0] = this.at(event),
      [cx, cy] = this.project(name, start),
      axes = this.axes(name);
    this.events.onGrab(c.name);
    this.follow(event, (dx, dy, done, e) => {
      if (way.kind === "nothing") return undefined; // a drag that starts on a control never moves the eye
      if (way.kind === "channel") {
        const said = this.events.onDragChannel({ control: c.name, channel: way.channel, by: (dx - dy) / SPAN, done }),
          [x, y] = this.at(e);
        this.tip = done ? null : { x, y, text: said };
        return undefined;
      }
      if (!turning)
        return this.events.onDragControl({
          control: c.name,
          kind: "move",
          to: this.unproject(name, start, dx, dy),
          done,
        });
      let axis, angle;
      if (name === "free") {
        // roll the control under the hand
        const n = Math.hypot(dx, dy) || 1;
        axis = plus(
          axes.up.map((k) => (k * dx) / n),
          axes.right,
          dy / n,
        );
        angle = n * 0.011;
      } else {
        // swing it about the way one looks
        axis = axes.out;
        angle = -(Math.atan2(y0 + dy - cy, x0 + dx - cx) - Math.atan2(y0 - cy, x0 - cx));
      }
      const s = Math.sin(angle / 2);
      this.events.onDragControl({
        control: c.name,
        kind: "turn",
        by: [Math.cos(angle / 2), axis[0] * s, axis[1] * s, axis[2] * s],
        done,
      });
    });
  }

  pan(event, name) {
    const start = this.focus;
    this.follow(event, (dx, dy) => {
      this.focus = plus(start, plus(this.unproject(name, start, dx, dy), start, -1), -1);
      this.draw();
    });
  }

  wheel(event, name) {
    event.preventDefault();
    const [x, y] = this.at(event),
      r = this.views[name].rect;
    const before = this.unproject(name, this.focus, x - r.x - r.w / 2, y - r.y - r.h / 2);
    this.scale = Math.min(Math.max(this.scale * Math.exp(-event.deltaY * 0.0012), 10), 60000);
    const after = this.unproject(name, this.focus, x - r.x - r.w / 2, y - r.y - r.h / 2);
    this.focus = plus(this.focus, plus(before, after, -1));
    this.draw();
  }

  /** Turn the free view so that a place is in its middle. */
  lookAt(place, near = 0.45) {
    const way = this.camera.position.clone().sub(this.orbit.target);
    this.looked = true;
    this.orbit.target.fromArray(place);
    this.camera.position
      .copy(this.orbit.target)
      .add(way.setLength(Math.max(way.length() * near, 0.4 * this.sizes().y)));
    this.orbit.update();
  }

  // -- drawing ----------------------------------------------------------------------------------------------------
  draw() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.paint();
    });
  }

  paint() {
    if (!this.width) return;
    const gl = this.renderer;
    gl.setScissorTest(true);
    gl.setClearColor(0, 0);
    gl.setScissor(0, 0, this.width, this.high);
    gl.clear();
    for (const pen of [this.over, this.under]) pen.clearRect(0, 0, this.width, this.high);
    this.papers.hidden = this.large === "free"; // a canvas that was only cleared may go on showing what it held
    this.pen = this.under;
    for (const [name, { rect }] of Object.entries(this.views))
      if (rect && name !== "free") drawPictures(this, name, rect);
    if (!this.large) drawPaper(this);
    else if (this.large !== "free") drawGrid(this, this.large, this.views[this.large].rect);
    this.pen = this.over;
    for (const [name, { rect }] of Object.entries(this.views)) {
      if (!rect) continue;
      gl.setViewport(rect.x, this.high - rect.y - rect.h, rect.w, rect.h);
      gl.setScissor(rect.x, this.high - rect.y - rect.h, rect.w, rect.h);
      const flat = name !== "free";
      this.material.uniforms.fade.value = flat && this.layers.joints ? 0.18 : 0;
      if (flat) this.aimFlat(name, rect);
      gl.clearDepth();
      gl.render(this.scene, flat ? this.flatCamera : this.camera);
      this.pen.save();
      this.pen.beginPath();
      this.pen.rect(rect.x, rect.y, rect.w, rect.h);
      this.pen.clip();
      if (this.marked.length) drawMarks(this, name);
      if (this.layers.joints && this.axesShown) drawAxes(this, name);
      if (this.layers.joints) drawJoints(this, name);
      if (this.layers.controls && !this.controlsAway) drawControls(this, name);
      if (this.wishes.length || this.landmarks.length) drawWishes(this, name);
      this.pen.restore();
    }
    if (!this.large) drawTies(this);
    if (this.tip) drawTip(this, this.tip);
  }

  aimFlat(name, rect) {
    const f = FLAT[name],
      c = this.flatCamera,
      s = this.scale;
    Object.assign(c, {
      left: -rect.w / 2 / s,
      right: rect.w / 2 / s,
      top: rect.h / 2 / s,
      bottom: -rect.h / 2 / s,
      near: -100,
      far: 100,
    });
    c.position.fromArray(this.focus);
    c.up.fromArray(f.up);
    c.lookAt(new THREE.Vector3().fromArray(plus(this.focus, f.out, -1)));
    c.updateProjectionMatrix();
    c.updateMatrixWorld();
  }
}
