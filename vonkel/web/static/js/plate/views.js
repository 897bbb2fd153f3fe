// Where the four views lie on the stage, and what they show of the world: cameras, scales, places to pixels and back.
import * as THREE from "three";
import { OrbitControls } from "three/orbit";
import { h, render } from "../widgets/html.js";
import { FLAT, RULER, dot, plus } from "./space.js";

const DOCK = 62; // the height of the tools with the paper under them
const ROOM = 22; // what is left round the whole figure
const TITLES = { front: "front", side: "side", top: "top", free: "free view" };

export class Views {
  constructor(stage) {
    this.stage = stage;
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
    this.looked = false;
    this.heading = 0; // pixels at the upper edge of a large view that are taken, as by a line of words
    this.large = "";
    this.paired = false; // front and side beside each other, the others away
    /** @type {THREE.Box3 | null} */
    this.near = null; // what the drawings show instead of the whole figure
    this.focus = [0, 0.5, 0];
    this.scale = 300;
    this.width = 0;
    this.high = 0;
    /** @type {{ rest: Float32Array }} */
    this.drawn = { rest: new Float32Array() }; // the mesh that is to be in sight
    /** @type {THREE.Box3 | null} */
    this.box = null; // of the figure at rest
    /** @type {Float32Array | null} */
    this.posed = null; // the points of a pose that is to be in sight, too
    /** @type {THREE.Box3 | null} */
    this.reach = null; // of both
    this.resized = new ResizeObserver(() => this.layout());
    this.resized.observe(stage);
  }

  /** Drawn anew when the browser is next ready.  What draws says how. */
  draw() {}

  /** The canvases have another size.  What draws follows. */
  sized(_width, _high) {}

  addView(name) {
    const title = TITLES[name];
    const div = document.createElement("div");
    div.className = `view-${name}`;
    div.dataset.view = name;
    const grow = {
      type: "button",
      class: "btn btn-sm btn-quiet",
      title: `Make the ${title} large, or small again`,
      "aria-label": `${title} large or small`,
      onclick: () => this.setLarge(this.large === name ? "" : name),
    };
    render([h("em", {}, title), h("button", grow, "⤢")], div);
    this.stage.querySelector("#views").append(div);
    div.addEventListener("dblclick", () => this.home());
    if (name !== "free") div.addEventListener("wheel", (e) => this.wheel(e, name), { passive: false });
    this.views[name] = { div, rect: null };
  }

  setLarge(name) {
    this.large = name;
    this.layout();
  }

  /** Front and side large beside each other; or the four as ever. */
  setPaired(on) {
    if (on === this.paired) return;
    this.paired = on;
    this.layout();
  }

  /** Show a part of the figure: its lowest and highest corner; none: all of it. */
  setNear(box) {
    this.near = box && new THREE.Box3(new THREE.Vector3(...box[0]), new THREE.Vector3(...box[1]));
    this.home();
  }

  setHeading(pixels) {
    if (pixels === this.heading) return;
    this.heading = pixels;
    this.layout();
  }

  // -- layout -----------------------------------------------------------------------------------------------------
  layout() {
    const w = this.stage.clientWidth,
      high = this.stage.clientHeight;
    if (!w || !high) return;
    this.width = w;
    this.high = high;
    this.sized(w, high);
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
    if (this.paired) return this.rectOfPair(name, w, room, s);
    const split = Math.min(Math.max((w - RULER) * (s.x / (s.x + s.z)), 0.3 * w), 0.62 * w);
    const row = Math.min(Math.max(room * (s.y / (s.y + s.z)), 0.45 * room), 0.62 * room);
    return {
      front: { x: RULER, y: 0, w: split, h: row },
      side: { x: RULER + split, y: 0, w: w - RULER - split, h: row },
      top: { x: RULER, y: row, w: split, h: room - row },
      free: { x: RULER + split + 2, y: row + 4, w: w - RULER - split - 8, h: room - row - 8 },
    }[name];
  }

  rectOfPair(name, w, room, s) {
    const split = Math.min(Math.max((w - RULER) * (s.x / (s.x + s.z)), 0.38 * w), 0.62 * w);
    if (name === "front") return { x: RULER, y: 0, w: split, h: room };
    return name === "side" ? { x: RULER + split, y: 0, w: w - RULER - split, h: room } : null;
  }

  /** The box that the drawings show. */
  get shown() {
    return this.near ?? this.reach ?? this.box;
  }

  /** A pose that is looked at is in sight beside the figure at rest, or (null) the figure at rest alone; who has looked
   * closer keeps the free view. */
  keepInSight(points) {
    if (!this.box || (!points && !this.posed)) return;
    this.posed = points && points.slice();
    this.reach = points && new THREE.Box3().setFromArray(points).union(this.box);
    this.fit();
    if (!this.looked) this.frame();
  }

  sizes() {
    const v = this.shown ? this.shown.getSize(new THREE.Vector3()) : { x: 1, y: 1, z: 1 };
    return { x: Math.max(v.x, 1e-3), y: Math.max(v.y, 1e-3), z: Math.max(v.z, 1e-3) };
  }

  /** Choose the one scale at which the whole figure fits every drawing that is shown. */
  fit() {
    if (!this.shown) return;
    const s = this.sizes(),
      need = { front: [s.x, s.y], side: [s.z, s.y], top: [s.x, s.z] };
    let scale = Infinity;
    for (const [name, [a, b]] of Object.entries(need)) {
      const r = this.views[name].rect;
      if (r) scale = Math.min(scale, r.w / (1.06 * a), (r.h - 30) / (1.04 * b));
    }
    this.scale = Number.isFinite(scale) ? scale : 300;
    const c = this.shown.getCenter(new THREE.Vector3());
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
      p = new THREE.Vector3();
    for (const points of [this.drawn.rest, this.posed ?? new Float32Array()]) {
      const step = Math.max(1, Math.floor(points.length / 12000));
      for (let i = 0; i < points.length / 3; i += step) {
        p.fromArray(points, 3 * i).sub(c);
        some.push([p.dot(right), p.dot(up), p.dot(out)]);
      }
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

  /** How far over the ground the shown points lie from rest, in the mean, metres. */
  carriedBy() {
    const { points, rest } = /** @type {any} */ (this);
    const mean = (k) => {
      let sum = 0;
      for (let i = k; i < rest.length; i += 3) sum += points[i] - rest[i];
      return (3 * sum) / rest.length;
    };
    return rest?.length ? [mean(0), 0, mean(2)] : [0, 0, 0];
  }

  /** All views go along by so many metres. */
  goAlong([x, y, z]) {
    if (!x && !y && !z) return;
    const by = new THREE.Vector3(x, y, z);
    this.focus = this.focus.map((v, k) => v + [x, y, z][k]);
    this.camera.position.add(by);
    this.orbit.target.add(by);
    this.looked = true;
    this.orbit.update();
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
}
