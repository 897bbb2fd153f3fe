// The plate: front, side and top drawings on one scale beside a free view, all of the same scene.
//
// Events (plain callbacks): onPickJoint(name), onPickControl(name), onPickPoint(index), onDragJoint(name, place, done),
// onDragControl({control, kind, to | by, done}).  The plate holds no rule of the job: it draws and listens.
import * as THREE from "three";
import { OrbitControls } from "three/orbit";
import { h, length } from "./dom.js";
import { MODES, hitMesh, makeMaterial, writeNormals } from "./shade.js";

const INK = "#22303c", EMBER = "#c8481a", SIDES = { L: "#1b7471", R: "#7a3b76", C: "#8a5e12" };
const FLAT = {
  front: { right: [1, 0, 0], up: [0, 1, 0], out: [0, 0, 1] },
  side: { right: [0, 0, -1], up: [0, 1, 0], out: [1, 0, 0] },
  top: { right: [1, 0, 0], up: [0, 0, -1], out: [0, 1, 0] },
};
const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const plus = (a, b, s = 1) => [a[0] + s * b[0], a[1] + s * b[1], a[2] + s * b[2]];
const RULER = 44;

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
    this.renderer = new THREE.WebGLRenderer({ canvas: stage.querySelector("#mesh-canvas"), antialias: smooth, alpha: true });
    this.renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
    this.scene = new THREE.Scene();
    this.material = makeMaterial();
    this.views = {};
    for (const name of ["front", "side", "top", "free"]) this.addView(name);
    this.flatCamera = new THREE.OrthographicCamera();
    this.camera = new THREE.PerspectiveCamera(28, 1, 0.01, 200);
    this.orbit = new OrbitControls(this.camera, this.views.free.div);
    this.orbit.enableDamping = false;
    this.orbit.addEventListener("change", () => this.draw());
    this.large = "";
    this.layers = { joints: true, controls: false };
    this.tool = "move";
    this.joints = []; this.controls = []; this.children = new Map();
    this.frames = null; this.controlFrames = null;
    this.selected = { joint: "", control: "" };
    this.hovered = "";
    this.hiddenParts = new Set();
    this.marked = [];
    this.focus = [0, 0.5, 0]; this.scale = 300;
    this.pending = false;
    new ResizeObserver(() => this.layout()).observe(stage);
  }

  addView(name) {
    const title = { front: "front", side: "side", top: "top", free: "free view" }[name];
    const grow = h("button", { class: "quiet", title: `Make the ${title} large, or small again`, "aria-label": `${title} large or small` }, "⤢");
    const div = h("div", { class: `view-${name}`, "data-view": name }, h("em", {}, title), grow);
    grow.addEventListener("click", () => this.setLarge(this.large === name ? "" : name));
    this.stage.querySelector("#views").append(div);
    div.addEventListener("pointerdown", (e) => this.down(e, name), true);
    div.addEventListener("pointermove", (e) => this.hover(e, name));
    div.addEventListener("dblclick", () => this.home());
    if (name !== "free") div.addEventListener("wheel", (e) => this.wheel(e, name), { passive: false });
    this.views[name] = { div, rect: null };
  }

  // -- what is shown ----------------------------------------------------------------------------------------------
  setMesh({ points, triangles, colours, partOf }) {
    this.rest = points; this.triangles = triangles; this.partOf = partOf; this.points = points;
    const count = points.length / 3;
    const geometry = new THREE.BufferGeometry();
    const buffer = (array, size) => { const b = new THREE.BufferAttribute(array, size); b.setUsage(THREE.DynamicDrawUsage); return b; };
    geometry.setAttribute("position", buffer(new Float32Array(points), 3));
    geometry.setAttribute("normal", buffer(new Float32Array(3 * count), 3));
    geometry.setAttribute("tint", new THREE.BufferAttribute(new Uint8Array(colours), 3, true));
    geometry.setAttribute("value", buffer(new Float32Array(count), 1));
    geometry.setIndex(new THREE.BufferAttribute(triangles, 1));
    geometry.boundingSphere = new THREE.Sphere(new THREE.Vector3(), 1e6);
    if (this.mesh) { this.scene.remove(this.mesh); this.mesh.geometry.dispose(); }
    this.mesh = new THREE.Mesh(geometry, this.material);
    this.mesh.frustumCulled = false;
    this.scene.add(this.mesh);
    this.box = new THREE.Box3().setFromArray(points);
    this.setPoints(points);
    this.layout(); this.home();
  }

  /** Which parts are hidden: their triangles are left out of the drawing. */
  setHidden(hidden) {
    this.hiddenParts = hidden;
    if (!this.mesh) return;
    let index = this.triangles;
    if (hidden.size) {
      const keep = [];
      for (let t = 0; t < this.partOf.length; t++) if (!hidden.has(this.partOf[t])) keep.push(this.triangles[3 * t], this.triangles[3 * t + 1], this.triangles[3 * t + 2]);
      index = new Uint32Array(keep);
    }
    this.mesh.geometry.setIndex(new THREE.BufferAttribute(index, 1));
    this.draw();
  }

  setPoints(points) {
    this.points = points;
    const g = this.mesh.geometry;
    g.attributes.position.array.set(points);
    writeNormals(points, this.triangles, g.attributes.normal.array);
    g.attributes.position.needsUpdate = g.attributes.normal.needsUpdate = true;
    this.draw();
  }

  /** Colour by a value per point along the ember ramp; null goes back to the working shading. */
  setValues(values, shading = "clay") {
    this.material.uniforms.mode.value = values ? MODES.ramp : MODES[shading];
    if (values && this.mesh) {
      this.mesh.geometry.attributes.value.array.set(values);
      this.mesh.geometry.attributes.value.needsUpdate = true;
    }
    this.draw();
  }

  setSkeleton(joints, controls) {
    this.joints = joints;
    this.controls = controls;
    this.index = new Map(joints.map((j, i) => [j.name, i]));
    this.frames = null; this.controlFrames = null; this.preview = null;
    this.draw();
  }

  setFrame({ points, joints, controls }) {
    this.frames = joints;
    this.controlFrames = controls.length === 12 * this.controls.length ? controls : null;
    this.controlsAway = !this.controlFrames;
    this.setPoints(points);
  }

  setPreview(places) { this.preview = places; this.draw(); }
  setLarge(name) { this.large = name; this.layout(); }

  jointPlace(i) {
    const j = this.joints[i];
    if (this.preview && this.preview[j.name]) return this.preview[j.name];
    if (!this.frames) return j.place;
    return [this.frames[12 * i + 3], this.frames[12 * i + 7], this.frames[12 * i + 11]];
  }

  controlPlace(i) {
    if (!this.controlFrames) return this.controls[i].place;
    const f = this.controlFrames, k = 12 * i;
    return [f[k + 3], f[k + 7], f[k + 11]];
  }

  controlLine(i) {
    const c = this.controls[i], f = this.controlFrames, k = 12 * i;
    if (!f) return c.outline.map((p) => plus(c.place, rotated(c.turn, p)));
    return c.outline.map(([x, y, z]) => [
      f[k] * x + f[k + 1] * y + f[k + 2] * z + f[k + 3],
      f[k + 4] * x + f[k + 5] * y + f[k + 6] * z + f[k + 7],
      f[k + 8] * x + f[k + 9] * y + f[k + 10] * z + f[k + 11],
    ]);
  }

  // -- layout -----------------------------------------------------------------------------------------------------
  layout() {
    const w = this.stage.clientWidth, high = this.stage.clientHeight;
    if (!w || !high) return;
    this.width = w; this.high = high;
    this.renderer.setSize(w, high, false);
    const ratio = Math.min(devicePixelRatio, 2);
    for (const [canvas, pen] of [[this.lines, this.over], [this.papers, this.under]]) {
      canvas.width = w * ratio; canvas.height = high * ratio;
      pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    }
    for (const [name, view] of Object.entries(this.views)) {
      view.rect = this.rectFor(name, w, high);
      view.div.hidden = !view.rect;
      view.div.classList.toggle("large", this.large === name);
      if (view.rect) Object.assign(view.div.style, { left: `${view.rect.x}px`, top: `${view.rect.y}px`, width: `${view.rect.w}px`, height: `${view.rect.h}px` });
    }
    const free = this.views.free.rect;
    if (free) { this.camera.aspect = free.w / free.h; this.camera.updateProjectionMatrix(); }
    this.fit();
  }

  rectFor(name, w, high) {
    if (this.large) return this.large === name ? { x: 0, y: 0, w, h: high } : null;
    const s = this.sizes();
    const split = Math.min(Math.max((w - RULER) * (s.x / (s.x + s.z)), 0.30 * w), 0.62 * w);
    const row = Math.min(Math.max(high * (s.y / (s.y + s.z)), 0.45 * high), 0.62 * high);
    return {
      front: { x: RULER, y: 0, w: split, h: row }, side: { x: RULER + split, y: 0, w: w - RULER - split, h: row },
      top: { x: RULER, y: row, w: split, h: high - row },
      free: { x: RULER + split + 2, y: row + 4, w: w - RULER - split - 8, h: high - row - 10 },
    }[name];
  }

  sizes() {
    const v = this.box ? this.box.getSize(new THREE.Vector3()) : { x: 1, y: 1, z: 1 };
    return { x: Math.max(v.x, 1e-3), y: Math.max(v.y, 1e-3), z: Math.max(v.z, 1e-3) };
  }

  /** Choose the one scale at which the whole figure fits every drawing that is shown. */
  fit() {
    if (!this.box) return;
    const s = this.sizes(), need = { front: [s.x, s.y], side: [s.z, s.y], top: [s.x, s.z] };
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
    this.fit();
    const c = this.box.getCenter(new THREE.Vector3()), s = this.sizes();
    const far = 0.66 * Math.max(s.y, Math.hypot(s.x, s.z) * 0.8) / Math.tan((this.camera.fov * Math.PI) / 360);
    this.camera.near = far / 50; this.camera.far = far * 20;
    this.camera.position.set(c.x + 0.46 * far, c.y + 0.16 * far, c.z + 0.88 * far);
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
    const f = FLAT[name], d = plus(p, this.focus, -1);
    return [r.x + r.w / 2 + dot(d, f.right) * this.scale, r.y + r.h / 2 - dot(d, f.up) * this.scale, -dot(d, f.out)];
  }

  /** The world's move for a move of (dx, dy) pixels at a place. */
  unproject(name, p, dx, dy) {
    if (name !== "free") {
      const f = FLAT[name];
      return plus(plus(p, f.right, dx / this.scale), f.up, -dy / this.scale);
    }
    const e = this.camera.matrixWorld.elements, r = this.views.free.rect;
    const depth = -(new THREE.Vector3(...p).applyMatrix4(this.camera.matrixWorldInverse).z);
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
    let best = within, found = -1;
    for (let i = 0; i < this.joints.length; i++) {
      const [px, py] = this.project(name, this.jointPlace(i));
      const d = Math.hypot(px - x, py - y) - (this.joints[i].name === this.selected.joint ? 3 : 0);
      if (d < best) { best = d; found = i; }
    }
    return found;
  }

  nearestControl(name, x, y, within = 9) {
    let best = within, found = -1;
    for (let i = 0; i < this.controls.length; i++) {
      if (!this.showsControl(i)) continue;
      const line = this.controlLine(i).map((p) => this.project(name, p));
      for (let k = 0; k < line.length; k++) {
        const d = toSegment(x, y, line[k], line[(k + 1) % line.length]) - (this.controls[i].name === this.selected.control ? 2 : 0);
        if (d < best) { best = d; found = i; }
      }
    }
    return found;
  }

  showsControl(i) { return !this.levels || this.levels.has(this.controls[i].level); }

  ray(name, x, y) {
    const r = this.views[name].rect;
    if (name === "free") {
      const v = new THREE.Vector3(((x - r.x) / r.w) * 2 - 1, 1 - ((y - r.y) / r.h) * 2, 0.5).unproject(this.camera);
      const o = this.camera.position.toArray(), d = plus(v.toArray(), o, -1), n = Math.hypot(...d);
      return [o, d.map((k) => k / n)];
    }
    const f = FLAT[name];
    const p = plus(plus(this.focus, f.right, (x - r.x - r.w / 2) / this.scale), f.up, -(y - r.y - r.h / 2) / this.scale);
    return [plus(p, f.out, 50), f.out.map((k) => -k)];
  }

  hover(event, name) {
    if (this.dragging) return;
    const [x, y] = this.at(event);
    const c = this.layers.controls && !this.controlsAway ? this.nearestControl(name, x, y) : -1;
    const j = c < 0 && this.layers.joints ? this.nearestJoint(name, x, y) : -1;
    const now = c >= 0 ? this.controls[c].name : j >= 0 ? this.joints[j].name : "";
    if (now !== this.hovered) { this.hovered = now; this.draw(); }
    this.views[name].div.style.cursor = now ? "grab" : "";
    this.events.onHover?.(now);
  }

  down(event, name) {
    if (event.target.closest("button") || event.button === 1) return;
    this.stage.focus({ preventScroll: true });
    const [x, y] = this.at(event);
    if (event.button === 0 && !event.shiftKey) {
      const c = this.layers.controls && !this.controlsAway ? this.nearestControl(name, x, y) : -1;
      if (c >= 0) return this.dragControl(event, name, c);
      const j = this.layers.joints ? this.nearestJoint(name, x, y) : -1;
      if (j >= 0) return this.dragJoint(event, name, j);
      if (this.events.onPickPoint && this.mesh) {
        const hit = hitMesh(...this.ray(name, x, y), this.points, this.triangles, this.hiddenParts, this.partOf);
        if (hit) this.events.onPickPoint(hit.point);
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
    const move = (e) => { const [x, y] = this.at(e); went ||= Math.hypot(x - x0, y - y0) > 2; if (went) moved(x - x0, y - y0, false, e); };
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
    const joint = this.joints[i].name, start = this.jointPlace(i);
    this.events.onPickJoint(joint);
    if (!this.events.onDragJoint || this.frames) { event.preventDefault(); event.stopImmediatePropagation(); return; }
    this.follow(event, (dx, dy, done) => this.events.onDragJoint(joint, this.unproject(name, start, dx, dy), done));
  }

  dragControl(event, name, i) {
    const c = this.controls[i], start = this.controlPlace(i);
    const moves = c.channels.some((k) => k.kind === "move"), turns = c.channels.some((k) => k.kind === "turn");
    this.events.onPickControl(c.name);
    const turning = turns && (!moves || this.tool === "turn");
    if (!turning && !moves) return;
    const [x0, y0] = this.at(event), [cx, cy] = this.project(name, start), axes = this.axes(name);
    this.events.onGrab(c.name);
    this.follow(event, (dx, dy, done) => {
      if (!turning) return this.events.onDragControl({ control: c.name, kind: "move", to: this.unproject(name, start, dx, dy), done });
      let axis, angle;
      if (name === "free") {  // roll the control under the hand
        const n = Math.hypot(dx, dy) || 1;
        axis = plus(axes.up.map((k) => (k * dx) / n), axes.right, dy / n);
        angle = n * 0.011;
      } else {  // swing it about the way one looks
        axis = axes.out;
        angle = -(Math.atan2(y0 + dy - cy, x0 + dx - cx) - Math.atan2(y0 - cy, x0 - cx));
      }
      const s = Math.sin(angle / 2);
      this.events.onDragControl({ control: c.name, kind: "turn", by: [Math.cos(angle / 2), axis[0] * s, axis[1] * s, axis[2] * s], done });
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
    const [x, y] = this.at(event), r = this.views[name].rect;
    const before = this.unproject(name, this.focus, x - r.x - r.w / 2, y - r.y - r.h / 2);
    this.scale = Math.min(Math.max(this.scale * Math.exp(-event.deltaY * 0.0012), 10), 60000);
    const after = this.unproject(name, this.focus, x - r.x - r.w / 2, y - r.y - r.h / 2);
    this.focus = plus(this.focus, plus(before, after, -1));
    this.draw();
  }

  /** Turn the free view so that a place is in its middle. */
  lookAt(place, near = 0.45) {
    const way = this.camera.position.clone().sub(this.orbit.target);
    this.orbit.target.set(...place);
    this.camera.position.copy(this.orbit.target).add(way.setLength(Math.max(way.length() * near, 0.4 * this.sizes().y)));
    this.orbit.update();
  }

  // -- drawing ----------------------------------------------------------------------------------------------------
  draw() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => { this.pending = false; this.paint(); });
  }

  paint() {
    if (!this.width) return;
    const gl = this.renderer;
    gl.setScissorTest(true);
    gl.setClearColor(0, 0);
    gl.setScissor(0, 0, this.width, this.high);
    gl.clear();
    for (const pen of [this.over, this.under]) pen.clearRect(0, 0, this.width, this.high);
    this.pen = this.under;
    if (!this.large) this.paper();
    else if (this.large !== "free") this.grid(this.large, this.views[this.large].rect);
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
      if (this.marked.length) this.drawMarks(name);
      if (this.layers.joints) this.drawJoints(name);
      if (this.layers.controls && !this.controlsAway) this.drawControls(name);
      this.pen.restore();
    }
    if (!this.large) this.tie();
  }

  aimFlat(name, rect) {
    const f = FLAT[name], c = this.flatCamera, s = this.scale;
    Object.assign(c, { left: -rect.w / 2 / s, right: rect.w / 2 / s, top: rect.h / 2 / s, bottom: -rect.h / 2 / s, near: -100, far: 100 });
    c.position.set(...this.focus);
    c.up.set(...f.up);
    c.lookAt(...plus(this.focus, f.out, -1));
    c.updateProjectionMatrix();
    c.updateMatrixWorld();
  }

  /** Ruled paper under the drawings, the height ruler, the ground and the figure's height. */
  paper() {
    const { front, side, top } = this.views;
    this.grid("front", front.rect); this.grid("side", side.rect); this.grid("top", top.rect);
    const pen = this.pen, r = front.rect, end = side.rect.x + side.rect.w;
    pen.font = "14px 'Atkinson Mono', monospace";
    pen.fillStyle = "#56636c"; pen.textAlign = "right"; pen.textBaseline = "middle";
    const step = this.step() * 2;
    for (const v of ticks(this.focus[1], r.h / this.scale, step)) {
      const y = this.project("front", [0, v, 0])[1];
      if (y > 26 && y < r.h - 4) pen.fillText(String(Math.round(v * 100)), RULER - 8, y);
    }
    if (!this.box) return;
    const low = this.project("front", [0, this.box.min.y, 0])[1], high = this.project("front", [0, this.box.max.y, 0])[1];
    pen.strokeStyle = INK; pen.lineWidth = 1.5;
    if (low < r.h) { pen.beginPath(); pen.moveTo(r.x, low); pen.lineTo(end, low); pen.stroke(); }
    pen.setLineDash([5, 4]); pen.strokeStyle = EMBER; pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(r.x, high); pen.lineTo(end, high); pen.stroke(); pen.setLineDash([]);
    pen.fillStyle = EMBER; pen.textAlign = "right"; pen.textBaseline = "bottom";
    pen.fillText(length(this.box.max.y - this.box.min.y), end - 10, high - 3);
  }

  step() {
    const wanted = 26 / this.scale;
    return [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10].find((s) => s >= wanted) ?? 20;
  }

  grid(name, rect) {
    const pen = this.pen, f = FLAT[name], step = this.step();
    pen.lineWidth = 1; pen.strokeStyle = "rgba(200, 186, 160, .33)";
    pen.beginPath();
    for (const axis of ["right", "up"]) {
      const k = f[axis].findIndex((v) => v !== 0), span = (axis === "right" ? rect.w : rect.h) / this.scale;
      for (const v of ticks(this.focus[k], span, step)) {
        const p = [...this.focus]; p[k] = v;
        const [x, y] = this.project(name, p);
        if (axis === "right" && x > rect.x && x < rect.x + rect.w) { pen.moveTo(x, rect.y); pen.lineTo(x, rect.y + rect.h); }
        if (axis === "up" && y > rect.y && y < rect.y + rect.h) { pen.moveTo(rect.x, y); pen.lineTo(rect.x + rect.w, y); }
      }
    }
    pen.stroke();
  }

  /** Dotted lines that tie the chosen joint together across the drawings. */
  tie() {
    const i = this.index?.get(this.selected.joint);
    if (i === undefined || !this.layers.joints) return;
    const p = this.jointPlace(i), a = this.project("front", p), b = this.project("side", p), c = this.project("top", p), pen = this.pen;
    pen.setLineDash([2, 4]); pen.strokeStyle = EMBER; pen.lineWidth = 1;
    pen.beginPath(); pen.moveTo(a[0], a[1]); pen.lineTo(b[0], b[1]); pen.moveTo(a[0], a[1]); pen.lineTo(c[0], c[1]); pen.stroke();
    pen.setLineDash([]);
  }

  drawJoints(name) {
    const pen = this.pen, at = this.joints.map((_, i) => this.project(name, this.jointPlace(i)));
    this.joints.forEach((j, i) => {
      const p = j.parent ? this.index.get(j.parent) : undefined;
      if (p === undefined) return;
      const [x0, y0] = at[p], [x1, y1] = at[i], n = Math.hypot(x1 - x0, y1 - y0);
      if (n < 3) return;
      const w = Math.min(Math.max(0.11 * n, 2), 8), ux = -(y1 - y0) / n, uy = (x1 - x0) / n;
      const mx = x0 + 0.46 * (x1 - x0), my = y0 + 0.46 * (y1 - y0);
      const colour = SIDES[j.side];
      pen.beginPath(); pen.moveTo(x0, y0);
      pen.quadraticCurveTo(mx + 2 * w * ux, my + 2 * w * uy, x1, y1);
      pen.quadraticCurveTo(mx - 2 * w * ux, my - 2 * w * uy, x0, y0);
      pen.fillStyle = colour + (j.role === "eye" ? "14" : "38"); pen.fill();
      pen.strokeStyle = colour; pen.lineWidth = 1.2; pen.stroke();
    });
    this.joints.forEach((j, i) => {
      const [x, y] = at[i], chosen = j.name === this.selected.joint, over = j.name === this.hovered;
      if (chosen) this.tick(name, i, x, y);
      pen.beginPath(); pen.arc(x, y, chosen ? 6.5 : over ? 5 : j.deforms ? 3.4 : 2.4, 0, 7);
      pen.fillStyle = "#fffdf8"; pen.fill();
      pen.strokeStyle = chosen || over ? EMBER : SIDES[j.side]; pen.lineWidth = chosen ? 3 : 1.6; pen.stroke();
    });
  }

  /** The chosen joint's second axis: the hinge about which it bends. */
  tick(name, i, x, y) {
    const j = this.joints[i];
    const hinge = this.frames ? [2, 6, 10].map((k) => this.frames[12 * i + k]) : rotated(j.turn, [0, 0, 1]);
    const place = this.jointPlace(i), [tx, ty] = this.project(name, plus(place, hinge, 0.035 * this.sizes().y));
    this.pen.beginPath(); this.pen.moveTo(x, y); this.pen.lineTo(tx, ty);
    this.pen.strokeStyle = EMBER; this.pen.lineWidth = 2; this.pen.stroke();
  }

  drawControls(name) {
    const pen = this.pen;
    this.controls.forEach((c, i) => {
      if (!this.showsControl(i)) return;
      const line = this.controlLine(i).map((p) => this.project(name, p));
      const chosen = c.name === this.selected.control, over = c.name === this.hovered;
      pen.beginPath();
      line.forEach(([x, y], k) => (k ? pen.lineTo(x, y) : pen.moveTo(x, y)));
      pen.closePath();
      pen.lineWidth = chosen || over ? 5 : 3.6; pen.strokeStyle = "rgba(255, 253, 248, .75)"; pen.stroke();
      pen.lineWidth = chosen ? 3 : over ? 2.6 : 1.7; pen.strokeStyle = chosen || over ? EMBER : SIDES[c.side]; pen.stroke();
    });
  }

  drawMarks(name) {
    const pen = this.pen;
    pen.fillStyle = "rgba(200, 72, 26, .85)";
    for (const p of this.marked) {
      const [x, y] = this.project(name, [this.points[3 * p], this.points[3 * p + 1], this.points[3 * p + 2]]);
      pen.beginPath(); pen.arc(x, y, 2.6, 0, 7); pen.fill();
    }
  }
}

function ticks(middle, span, step) {
  const out = [];
  for (let v = Math.ceil((middle - span / 2) / step) * step; v <= middle + span / 2; v += step) out.push(v);
  return out;
}

function toSegment(x, y, a, b) {
  const dx = b[0] - a[0], dy = b[1] - a[1];
  const t = Math.min(Math.max(((x - a[0]) * dx + (y - a[1]) * dy) / (dx * dx + dy * dy || 1), 0), 1);
  return Math.hypot(x - a[0] - t * dx, y - a[1] - t * dy);
}

/** A vector turned by a quaternion (w, x, y, z). */
export function rotated([w, x, y, z], [a, b, c]) {
  const tx = 2 * (y * c - z * b), ty = 2 * (z * a - x * c), tz = 2 * (x * b - y * a);
  return [a + w * tx + y * tz - z * ty, b + w * ty + z * tx - x * tz, c + w * tz + x * ty - y * tx];
}
