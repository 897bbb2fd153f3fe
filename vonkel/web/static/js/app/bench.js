// The bench: one character, its plate, its sheets.  Wires the widgets to the server's steps and readings.
import { call } from "../net/api.js";
import { Plate } from "../plate/plate.js";
import { byId } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";
import { actionOfKey } from "./actions.js";
import { Finder } from "./finder.js";
import { Ledger } from "./ledger.js";
import { Page } from "./page.js";
import { Posing } from "./posing.js";
import { fieldsOf, STATIONS } from "./stations.js";
import { store } from "./store.js";
import { Strip } from "./strip.js";
import { TOOLS } from "./tools.js";

export class Bench extends Posing {
  constructor(number, station, mesh) {
    super(number, {
      station,
      shownStation: "", // the station whose look the plate has
      tool: null,
      overName: "",
      legend: null,
      plateLook: 0, // counts changes of what the plate shows
      kitKinds: null,
      formats: null,
    });
    // On its way while the state is made.
    this.meshAsked = mesh ? fetch(`/api/c/${number}/mesh/${mesh}`) : null;
    /** What the sheets of the stations keep. */
    this.ui = store({ open: new Set(), shelf: "", ...fieldsOf() });
    this.plate = new Plate(byId("stage"), {
      onPickJoint: (name) => this.selectJoint(name),
      onPickControl: (name) => this.selectControl(name),
      onDragJoint: (name, place, done) => this.dragJoint(name, place, done),
      onDragControl: (drag) => this.dragControl(drag),
      onDragChannel: (drag) => this.dragChannel(drag),
      onGrab: () => this.grab(),
      onHover: (name) => {
        this.overName = name;
      },
      onPickPoint: (index) => this.kind.pickPoint?.(this, index),
      onDragLandmark: (name, place, done) => this.tool?.drag?.(name, place, done),
      onReach: (joint, place, done) => this.dragReach(joint, place, done),
    });
    this.ledger = new Ledger(this);
    this.finder = new Finder(this);
    this.strip = new Strip(this);
    this.page = new Page(this);
    this.bindKeys();
  }

  /** The station one stands in. */
  get kind() {
    return STATIONS.get(this.station);
  }

  /** The state has been learned: everything that shows it follows. */
  learned() {
    const { state } = this;
    this.plate.setSkeleton(state.joints, state.controls);
    const which = (field) => new Set(state.parts.flatMap((p, i) => (p[field] ? [i] : [])));
    this.plate.setHidden(which("hidden"), which("locked"));
    this.plate.outlined = new Set(state.parts.flatMap((p, i) => (p.role === "skin" && !p.hidden ? [i] : [])));
    this.plate.setPictures(
      state.pictures,
      (q) => `/api/c/${this.number}/pictures/${encodeURIComponent(q.name)}?v=${q.key}`,
    );
    this.plate.setTexture(state.texture ? `/api/c/${this.number}/texture?v=${state.texture}` : "");
    this.arrive();
    this.ledger.refresh();
  }

  // -- stations ------------------------------------------------------------------------------------------------------
  go(station) {
    if (!STATIONS.has(station)) return;
    history.pushState({}, "", `/c/${this.number}/${station}${location.search}`);
    this.goTo(station);
  }

  goTo(station) {
    if (this.tool && this.tool.station !== station) this.useTool(null);
    if (this.station !== station) this.kind.leave?.(this);
    if (!STATIONS.get(station).strip) this.trial = ""; // trial poses have no control values to go on from
    this.station = station;
    this.running = this.playing = this.clipPlaying = false;
    this.arrive();
  }

  /** Give the plate the look of the station one stands in. */
  arrive() {
    const { kind, plate } = this;
    const fresh = this.shownStation !== this.station;
    document.title = `${this.state.name} · ${this.station} · Vonkel`;
    plate.marked = [];
    if (fresh) {
      plate.layers = { joints: false, controls: false, ...kind.layers };
      plate.levels = kind.levels ?? null;
      this.heat = kind.heat ?? false;
      this.over = kind.over ?? false;
      this.showHeat();
      plate.setLarge(kind.large ?? "");
      plate.setPaired(kind.paired ?? false);
      if (plate.near && !kind.paired) plate.setNear(null);
      if (!this.trial) plate.keepInSight(null);
      this.shownStation = this.station;
    }
    if (fresh || !kind.keepsValues?.(this)) plate.setValues(null, kind.shading?.(this) ?? "clay");
    plate.controlsAway = false;
    if (kind.rest) {
      plate.setSkeleton(this.state.joints, this.state.controls);
      if (plate.mesh) plate.setPoints(plate.rest);
    } else this.pose();
    plate.setHeading(this.hinting ? 52 : 0);
    if (fresh) kind.enter?.(this);
    kind.shown?.(this);
    this.strip.show(kind.strip ?? false);
  }

  /** One line for whoever opens a finished figure for the first time; it goes with the first drag. */
  get hinting() {
    const s = this.state;
    return !this.hinted && this.station === "limbs" && !!s.skin && s.controls.length > 0 && s.position.pose === 0;
  }

  showHeat() {
    const title = this.heatOf ? this.heatOf.replaceAll("_", " ") : "how far edges are stretched or squeezed",
      most = this.heatOf ? "what passes" : "×2";
    this.legend = this.heat ? { title, labels: ["none", "", most] } : null;
  }

  // -- choosing ------------------------------------------------------------------------------------------------------
  choose(selected) {
    this.plate.selected = { joint: "", control: "", ...selected };
    this.look();
  }

  /** What the plate shows has changed: it is drawn, and so are the sheets that speak of it. */
  look() {
    this.plateLook += 1;
    this.plate.draw();
  }

  selectJoint(name) {
    this.choose({ joint: name });
    this.kind.picked?.(this, name);
  }

  selectControl(name) {
    this.choose({ control: name });
  }

  async selectOpposite() {
    const name = this.plate.selected.control;
    if (!name) return;
    try {
      this.selectControl((await call("GET", `/api/c/${this.number}/opposite/${encodeURIComponent(name)}`)).control);
    } catch (error) {
      say(error);
    }
  }

  /** What is chosen, and its partner with symmetry on, is faded and out of reach; the second time it is back. */
  putAside() {
    const { joint, control } = this.plate.selected;
    if (!joint && !control) return toast("Choose a joint or a control first.");
    const things = joint ? this.state.joints : this.state.controls,
      chosen = things.find((x) => x.name === (joint || control));
    const names = [chosen.name, ...(this.symmetry && chosen.partner ? [chosen.partner] : [])];
    this.fade(names.map((n) => `${joint ? "joint" : "control"}:${n}`));
  }

  fade(keys) {
    const { aside } = this.plate,
      back = aside.has(keys[0]);
    for (const key of keys) {
      if (back) aside.delete(key);
      else aside.add(key);
    }
    this.look();
  }

  /** A part that is faded is drawn pale and lets clicks through. */
  fadePart(index) {
    const { fadedParts } = this.plate;
    if (fadedParts.has(index)) fadedParts.delete(index);
    else fadedParts.add(index);
    this.plate.partsChanged();
    this.look();
  }

  bringBack() {
    this.plate.aside.clear();
    this.plate.fadedParts.clear();
    this.plate.partsChanged();
    this.look();
  }

  get faded() {
    return this.plate.aside.size + this.plate.fadedParts.size;
  }

  // -- joints --------------------------------------------------------------------------------------------------------
  dragJoint(name, place, done) {
    const both = this.symmetry;
    this.draggingJoint = !done;
    const below = this.carryBelow;
    this.live.ask({ kind: "joint", step: this.position().step, joint: name, to: place, both, below });
    if (done) this.step("joints.move", { joint: name, place, both_sides: both, with_children: below });
  }

  /** A joint and those below it, as long as each has one child.  deforming: not counting helpers. */
  chainFrom(name, deforming = true) {
    const out = [name];
    for (;;) {
      const kids = this.state.joints.filter((j) => j.parent === out.at(-1) && (j.deforms || !deforming));
      if (kids.length !== 1) return out;
      out.push(kids[0].name);
    }
  }

  /** The present pose becomes the rest pose. */
  async newRest() {
    const values = structuredClone(this.values);
    if (!Object.keys(values).length) {
      toast("Pose the character first, at the Limbs station.");
      return;
    }
    if (await this.step("joints.new_rest", { values })) await this.toRest();
  }

  // -- tools ---------------------------------------------------------------------------------------------------------
  /** Take up a tool by name, or none: it gets the plate's clicks, and its panel stands on the right sheet. */
  useTool(name) {
    const tool = name ? TOOLS.get(name) : null;
    if (this.tool && this.tool !== tool) this.tool.leave(this);
    this.tool = tool;
    this.plate.tool = tool && !tool.passive ? tool : null;
    tool?.enter(this);
    this.look();
  }

  /** Ask for a step's parameters on the right sheet, where one stands. */
  askStep(name) {
    const tool = /** @type {any} */ (TOOLS.get("step"));
    tool.of(this.steps.get(name), this.station);
    this.useTool("step");
  }

  openPlans() {
    this.useTool("plans");
  }

  openKitPoints(kit) {
    TOOLS.get("points").kit = kit;
    this.useTool("points");
  }

  async loadKitKinds() {
    this.kitKinds ??= await call("GET", "/api/kits");
  }

  /** What a character can be written as: asked for once. */
  async loadFormats() {
    this.formats ??= await call("GET", "/api/formats");
  }

  // -- keys ----------------------------------------------------------------------------------------------------------
  bindKeys() {
    addEventListener("popstate", () => {
      const station = location.pathname.split("/")[3] ?? "model";
      if (STATIONS.has(station)) this.goTo(station);
    });
    addEventListener("keydown", (e) => this.key(e));
  }

  key(e) {
    if (!this.state) return;
    const typing = e.target.closest("input:not([type=checkbox]), textarea, select, .modal");
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !e.target.closest("textarea, input[type=text]")) {
      e.preventDefault();
      this.undo(e.shiftKey ? "redo" : "undo");
      return;
    }
    if (typing || e.ctrlKey || e.metaKey) return;
    if (this.tool?.keyed?.(e)) e.preventDefault();
    else if (e.key === "Escape") this.escape();
    else if (e.key.startsWith("Arrow") && e.target === this.plate.stage) this.nudge(e);
    else {
      const action = actionOfKey(e.key, this.station);
      if (!action) return;
      e.preventDefault();
      action.run(this);
    }
  }

  escape() {
    if (this.tool) return this.useTool(null);
    this.ledger.hide();
    this.plate.setLarge(this.kind.large ?? "");
  }

  /** Arrow keys move the chosen joint in front view: a centimetre, with Shift a millimetre, with Alt in depth. */
  nudge(e) {
    const joint = this.state.joints.find((j) => j.name === this.plate.selected.joint);
    if (!joint || this.station !== "joints") return;
    e.preventDefault();
    const by = e.shiftKey ? 0.001 : 0.01,
      p = [...joint.place];
    const [axis, sign] = {
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      ArrowUp: [e.altKey ? 2 : 1, 1],
      ArrowDown: [e.altKey ? 2 : 1, -1],
    }[e.key];
    p[axis] += sign * by;
    this.step("joints.move", { joint: joint.name, place: p, both_sides: this.symmetry }, { quiet: true });
  }
}
