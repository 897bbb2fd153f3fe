// Strokes that the server follows live, and the ring of every brush.
import { PlateTool } from "../app/tools.js";
import { numberField, slider, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { length } from "../words.js";
import { ring } from "./ring.js";

const WIDE = 4; // from point to point: a narrower ring pulls single points out

/**
 * What the hand does, told to the server row by row; when it lets go it becomes a step.  A stroke builds on the one
 * before: its rows wait until that one has become a step.
 */
export class Strokes {
  last = Promise.resolve(); // until the strokes before are steps

  constructor(b) {
    this.b = b;
  }

  /** A stroke begins.  @param {string} brush @param {Record<string, any>} how */
  begin(brush, how) {
    const now = { rows: [], told: 0, begun: false, ready: Promise.resolve() };
    now.ready = this.last
      .then(() => this.b.queue)
      .then(() => {
        this.b.live.beginStroke(brush, this.b.position().step, how);
        now.begun = true;
        this.feed(now);
      });
    return now;
  }

  add(now, row) {
    now.rows.push(row);
    this.feed(now);
  }

  feed(now) {
    if (!now.begun) return;
    while (now.told < now.rows.length) this.b.live.sample(now.rows[now.told++]);
  }

  /** The hand let go.  @param {any} now @param {string} step @param {Record<string, any>} params */
  end(now, step, params) {
    this.last = now.ready
      .then(() => this.b.live.endStroke())
      .then(() => this.b.step(step, params, { quiet: true, keepPose: true }));
    return this.last;
  }
}

/**
 * A brush with a ring.  Held d: the ring stays; the hand's distance from its middle is its size, its turn the strength.
 */
export class RingTool extends PlateTool {
  size = 0; // metres; nothing: a share of the height
  share = 0.035; // of the height, at first
  strength = 0.5;
  fading = 1;
  /** @type {any} */ spot = null;
  /** @type {any} */ dial = null; // where the ring stands while the hand sets it
  /** @type {any} */ now = null; // the stroke in the hand
  /** @type {Strokes} */ strokes;
  outlines = false; // whether controls were shown before

  enter(b) {
    super.enter(b);
    this.size ||= Math.max(this.share * b.state.height, WIDE * b.plate.drawn.spacing());
    this.strokes ??= new Strokes(b);
    this.up = (e) => {
      if (e.key === "d") this.letGo();
    };
    addEventListener("keyup", this.up);
    this.outlines = b.plate.layers.controls;
    b.plate.layers = { ...b.plate.layers, controls: false }; // they would lie over what is painted
  }
  leave() {
    removeEventListener("keyup", this.up);
    this.b.plate.layers = { ...this.b.plate.layers, controls: this.outlines };
    this.spot = this.dial = null;
    this.b.plate.tip = null;
    super.leave();
  }

  // -- the ring ------------------------------------------------------------------------------------------------------
  hover(spot) {
    if (this.dial) this.turnDial(spot);
    else this.spot = spot.hit ? spot : null;
    this.show();
  }
  show() {
    const { b, spot } = this,
      at = this.dial ?? spot;
    if (!at) {
      b.plate.tip = null;
      this.wish();
      return;
    }
    const label = this.dial ? `${length(this.size)} · ${this.strength.toFixed(2)}` : "";
    this.wish(...ring(b.plate.axes(at.view), at.place, this.size, this.strength, label));
  }
  keyed(e) {
    if (e.key !== "d" || e.ctrlKey || e.metaKey) return false;
    if (!this.dial && this.spot && !this.now) {
      this.dial = this.spot;
      this.show();
    }
    return true;
  }
  turnDial(spot) {
    const x = spot.x - this.dial.x,
      y = this.dial.y - spot.y,
      far = Math.hypot(x, y);
    if (far < 4) return;
    this.size = Math.min(Math.max(far * this.dial.metre, 1e-4), 10 * this.b.state.height);
    const turn = Math.atan2(x, y) / (2 * Math.PI);
    this.strength = Math.min(Math.max(Math.round(100 * (turn < 0 ? turn + 1 : turn)) / 100, 0.01), 1);
  }
  letGo() {
    if (!this.dial) return;
    this.dial = null;
    this.changed();
    this.show();
  }

  /** What came of the places that were sent. */
  stroked({ blocks }) {
    if (blocks) this.b.plate.setPatch(blocks.at, blocks.places, blocks.values ?? null);
  }

  // -- fields of its panel -------------------------------------------------------------------------------------------
  set(field) {
    return (v) => {
      this[field] = v;
      this.changed();
    };
  }
  sizeField() {
    return [
      "size, cm",
      numberField("size, cm", (100 * this.size).toFixed(1), (v) => this.set("size")(Math.max(v, 0.01) / 100)),
    ];
  }
  shareField(field, label) {
    return slider(label, this[field], {
      low: 0,
      high: 1,
      step: 0.01,
      oninput: (e) => this.set(field)(Number(e.target.value)),
    });
  }
  strengthField() {
    const said = h("span", {}, "strength ", h("span", { class: "fig" }, this.strength.toFixed(2)));
    return [said, this.shareField("strength", "strength")];
  }
  ticked(field, label, title) {
    return switchButton(label, this[field], () => this.set(field)(!this[field]), title);
  }
  bothSides() {
    return bothSides(this.b, () => this.changed());
  }
}

/** Whether what is done on one side is done on the other. */
export const bothSides = (b, changed) =>
  switchButton("Both sides", b.symmetry, () => {
    b.symmetry = !b.symmetry;
    changed();
  });
