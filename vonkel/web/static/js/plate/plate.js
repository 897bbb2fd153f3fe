// The plate: front, side and top drawings on one scale beside a free view, all of the same scene.
//
// Events (plain callbacks): onPickJoint(name), onPickControl(name), onPickPoint(index), onDragJoint(name, place, done),
// onDragControl({control, kind, to | by, done}), onDragChannel({control, channel, by, done}) → what it is now, in
// words, onDragLandmark(name, place, done).  While a tool is set, clicks and hovers go to it: tool.click(spot),
// tool.hover(spot), or, of a tool that brushes, tool.stroke(spot, done), with spot = {view, x, y, ray, hit, place,
// metre, press}.  The plate holds no rule of the job: it draws and listens.
import * as THREE from "three";
import {
  drawAxes,
  drawControls,
  drawDots,
  drawJoints,
  drawMarks,
  drawOutline,
  drawTip,
  drawWishes,
  drawGround,
} from "./figures.js";
import { drawGrid, drawPaper, drawPictures, drawTies } from "./paper.js";
import { Picking } from "./picking.js";
import { FLAT, plus } from "./space.js";
import { Still } from "./still.js";

const SPAN = 220; // pixels of a drag that lead a channel through its whole range
const ROLL = 0.011; // radians a pixel when a control is rolled under the hand
const ON_IT = 5; // pixels: right on a joint, it is meant and not the outline over it
const PALE = 0.18; // how far the mesh fades under the joints' drawing

export class Plate extends Picking {
  constructor(stage, events) {
    super(stage, new THREE.Scene());
    this.events = events;
    this.lines = stage.querySelector("#line-canvas");
    this.over = this.lines.getContext("2d");
    this.papers = stage.querySelector("#paper-canvas");
    this.under = this.papers.getContext("2d");
    this.pen = this.over;
    const smooth = new URLSearchParams(location.search).get("aa") !== "0";
    const canvas = stage.querySelector("#mesh-canvas");
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: smooth, alpha: true });
    // ?aa=0: for machines that draw without a GPU
    this.renderer.setPixelRatio(smooth ? Math.min(devicePixelRatio, 2) : 0.5);
    for (const [name, { div }] of Object.entries(this.views)) this.listen(name, div);
    requestAnimationFrame(() => this.warm());
    this.still = new Still(this.renderer);
    this.tip = null; // words at the pointer: {x, y, text}
    this.tool = null;
    this.wishes = [];
    this.axesShown = false;
    this.hovered = "";
    this.dragging = false;
    this.pending = false;
  }

  /** Let the shading be made ready while the mesh is on its way: without a GPU that takes a second. */
  warm() {
    if (this.mesh) return;
    const scene = new THREE.Scene(),
      triangle = new THREE.BufferGeometry().setFromPoints([1, 2, 3].map((v) => new THREE.Vector3(v)));
    scene.add(new THREE.Mesh(triangle, this.material));
    this.renderer.render(scene, this.flatCamera);
    triangle.dispose();
  }

  listen(name, div) {
    div.addEventListener("pointerdown", (e) => this.down(e, name), true);
    div.addEventListener("pointermove", (e) => this.hover(e, name));
    div.addEventListener("pointerleave", () => {
      if (!this.tip || this.dragging) return;
      this.tip = null;
      this.hovered = "";
      this.draw();
    });
  }

  sized(width, high) {
    this.renderer.setSize(width, high, false);
    const ratio = Math.min(devicePixelRatio, 2);
    for (const [canvas, pen] of [
      [this.lines, this.over],
      [this.papers, this.under],
    ]) {
      canvas.width = width * ratio;
      canvas.height = high * ratio;
      pen.setTransform(ratio, 0, 0, ratio, 0, 0);
    }
  }

  // -- the hand ----------------------------------------------------------------------------------------------------
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
    if (event.button === 0 && !event.shiftKey && this.take(event, name)) return;
    if (name !== "free") this.pan(event, name);
  }

  /** What a press takes hold of: a landmark, the tool, a joint, a control.  A point of the skin is only told. */
  take(event, name) {
    const [x, y] = this.at(event);
    const m = this.landmarks.length ? this.nearestLandmark(name, x, y) : null;
    if (m) {
      const start = m.place;
      this.follow(event, (dx, dy, done) =>
        this.events.onDragLandmark(m.name, this.unproject(name, start, dx, dy), done),
      );
      return true;
    }
    if (this.tool) return this.giveTool(event, name, x, y);
    const joint = (within) => (this.layers.joints ? this.nearestJoint(name, x, y, within) : -1);
    const on = joint(ON_IT);
    const c = on < 0 && this.layers.controls && !this.controlsAway ? this.nearestControl(name, x, y) : -1;
    if (c >= 0) {
      this.dragControl(event, name, c);
      return true;
    }
    const j = on >= 0 ? on : joint();
    if (j >= 0) {
      this.dragJoint(event, name, j);
      return true;
    }
    const hit = this.hit(this.ray(name, x, y));
    if (hit) this.events.onPickPoint?.(hit.point, hit);
    return false;
  }

  /** A click for the tool; or, of a tool that brushes, a stroke: every place that the hand passes, in its order. */
  giveTool(event, name, x, y) {
    const spot = this.spot(name, x, y);
    if (this.tool.stroke && !spot.hit) return false; // beside the mesh the hand turns the view
    if (!this.tool.stroke) {
      event.preventDefault();
      event.stopImmediatePropagation();
      this.tool.click?.(spot);
      return true;
    }
    const { tool } = this;
    const give = (e, done) => {
      for (const each of e.getCoalescedEvents?.() ?? [e]) {
        const [px, py] = this.at(each);
        tool.stroke({ ...this.spot(name, px, py), press: pressOf(each) }, false);
      }
      if (done) tool.stroke(null, true);
    };
    tool.stroke({ ...spot, press: pressOf(event) }, false);
    this.follow(event, (_dx, _dy, done, e) => give(e, done), true);
    return true;
  }

  /**
   * Follow the pointer until it lets go.  `moved(dx, dy, done)` gets pixels from the start; `still`: also a mere press.
   */
  follow(event, moved, still = false) {
    event.preventDefault();
    event.stopImmediatePropagation();
    const [x0, y0] = this.at(event);
    const div = event.currentTarget;
    this.dragging = true;
    this.drawn.beginMoves();
    this.orbit.enabled = false;
    div.setPointerCapture(event.pointerId);
    let went = still;
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
      if (!turning) {
        const to = this.unproject(name, start, dx, dy);
        return this.events.onDragControl({ control: c.name, kind: "move", to, done });
      }
      const by = name === "free" ? rolled(axes, dx, dy) : swung(axes, [x0 - cx, y0 - cy], dx, dy);
      return this.events.onDragControl({ control: c.name, kind: "turn", by, done });
    });
  }

  pan(event, name) {
    const start = this.focus;
    this.follow(event, (dx, dy) => {
      this.focus = plus(start, plus(this.unproject(name, start, dx, dy), start, -1), -1);
      this.draw();
    });
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
    for (const pen of [this.over, this.under]) {
      pen.clearRect(0, 0, this.width, this.high);
      pen.fillStyle = "rgba(255, 253, 248, .01)"; // a canvas that was only cleared may go on showing what it held
      pen.fillRect(0, 0, 1, 1);
    }
    this.papers.hidden = this.large === "free";
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
      this.material.uniforms.fade.value = flat && this.layers.joints ? PALE : 0;
      if (flat) this.aimFlat(name, rect);
      this.paintMesh(name, flat ? this.flatCamera : this.camera, rect);
      this.pen.save();
      this.pen.beginPath();
      this.pen.rect(rect.x, rect.y, rect.w, rect.h);
      this.pen.clip();
      if (this.ground && !flat) drawGround(this, name);
      if (this.wanted) drawOutline(this, name, this.wanted);
      if (this.marked.length) drawMarks(this, name);
      if (this.dotted.length) drawDots(this, name);
      if (this.layers.joints && this.axesShown) drawAxes(this, name);
      if (this.layers.joints) drawJoints(this, name);
      if (this.layers.controls && !this.controlsAway) drawControls(this, name);
      if (this.wishes.length || this.landmarks.length) drawWishes(this, name);
      this.pen.restore();
    }
    if (!this.large) drawTies(this);
    if (this.tip) drawTip(this, this.tip);
  }

  paintMesh(name, camera, rect) {
    const gl = this.renderer;
    gl.clearDepth();
    if (this.dragging && this.drawn.divides) {
      camera.updateMatrixWorld();
      this.still.draw(name, this.drawn, camera, rect);
      return;
    }
    this.still.rest();
    gl.render(this.scene, camera);
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

/** How hard a pen is pressed; anything else presses wholly. */
const pressOf = (event) => (event.pointerType === "pen" ? event.pressure : 1);

/** A turn about an axis. */
function quaternion(axis, angle) {
  const s = Math.sin(angle / 2);
  return [Math.cos(angle / 2), axis[0] * s, axis[1] * s, axis[2] * s];
}

/** Rolled under the hand. */
function rolled(axes, dx, dy) {
  const n = Math.hypot(dx, dy) || 1;
  const axis = plus(
    axes.up.map((k) => (k * dx) / n),
    axes.right,
    dy / n,
  );
  return quaternion(axis, n * ROLL);
}

/** Swung about the way one looks; `from`: where the hand took hold, from the middle. */
function swung(axes, [x, y], dx, dy) {
  return quaternion(axes.out, Math.atan2(y, x) - Math.atan2(y + dy, x + dx));
}
