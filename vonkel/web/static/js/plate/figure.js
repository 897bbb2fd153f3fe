// What stands on the plate: the mesh as it is posed, joints, controls, and where each of them is.
import * as THREE from "three";
import { MeshDrawing } from "./mesh.js";
import { plus, rotated } from "./space.js";
import { Views } from "./views.js";

export class Figure extends Views {
  constructor(stage, scene) {
    super(stage);
    this.scene = scene;
    /** @type {MeshDrawing} */
    this.drawn = new MeshDrawing(scene);
    this.layers = { joints: true, controls: false };
    this.aside = new Set(); // joints and controls that are faded and out of reach, as `joint:…` and `control:…`
    this.fadedParts = new Set(); // parts by number, the same
    this.hiddenParts = new Set();
    this.lockedParts = new Set();
    /** @type {Set<string> | null} */
    this.levels = null; // the sets of controls that are shown; none: all
    this.pictures = [];
    this.pictureFiles = new Map();
    this.joints = [];
    this.controls = [];
    this.index = new Map();
    this.frames = null;
    this.controlFrames = null;
    this.controlsAway = false;
    this.preview = null;
    this.selected = { joint: "", control: "" };
    this.marked = [];
    /** What a walk goes over. @type {{ hills: number[][], path: number[][], low: number } | null} */
    this.ground = null;
    /** @type {number[] | null} */ this.numbered = null; // the marked points, where each bears its number
    /** @type {Float32Array | null} */ this.wanted = null; // where the live skin would be, to be drawn as an outline
    this.outlined = new Set(); // parts whose outline is drawn then
    this.dotted = []; // points whose values are drawn on them
  }

  /** What of the mesh others read. */
  get mesh() {
    return this.drawn.mesh;
  }
  get rest() {
    return this.drawn.rest;
  }
  get points() {
    return this.drawn.points;
  }
  get triangles() {
    return this.drawn.triangles;
  }
  get material() {
    return this.drawn.material;
  }

  /** A mesh as it came over the wire (`net/mesh.js`). */
  setMesh(mesh) {
    this.drawn.setMesh(mesh);
    this.box = new THREE.Box3().setFromArray(mesh.points);
    this.posed = this.reach = null;
    this.layout();
    this.home();
  }

  /** Which parts are hidden: their triangles are left out of the drawing; locked ones let clicks through. */
  setHidden(hidden, locked = new Set()) {
    this.hiddenParts = hidden;
    this.lockedParts = locked;
    this.partsChanged();
  }

  partsChanged() {
    this.drawn.setParts(this.hiddenParts, this.fadedParts);
    this.draw();
  }

  setPoints(points, ranges = null) {
    this.drawn.setPoints(points, ranges);
    this.draw();
  }

  /** Colour by a value per point along the ember ramp; null goes back to the working shading. */
  setValues(values, shading = "clay") {
    this.drawn.setValues(values, shading);
    this.draw();
  }

  /** Colour every point by an ink of its own, three bytes each. */
  setInks(inks) {
    this.drawn.setInks(inks);
    this.draw();
  }

  /** Some points as they are now, and their values, if values are shown. */
  setPatch(at, places, values) {
    this.drawn.setPatch(at, places, values);
    this.draw();
  }

  /** A picture for the texture shading, or nothing. */
  setTexture(url) {
    this.drawn.setTexture(url, () => this.draw());
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

  setFrame({ points, joints, controls, ranges = null }) {
    this.frames = joints;
    this.controlFrames = controls.length === 12 * this.controls.length ? controls : null;
    this.controlsAway = !this.controlFrames;
    this.setPoints(points, ranges);
  }

  setPreview(places) {
    this.preview = places;
    this.draw();
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

  showsControl(i) {
    return !this.levels || this.levels.has(this.controls[i].level);
  }

  /** What of the mesh a ray meets first: {point, triangle, distance}, or null; what is put away lets it through. */
  hit(ray) {
    const away = (part) => this.hiddenParts.has(part) || this.lockedParts.has(part) || this.fadedParts.has(part);
    return this.drawn.hit(ray, away);
  }
}
