// The brush over skin weights.  What the hand passes goes to the server place by place; when it lets go, the places
// become one step.
import { enterTool, PlateTool } from "../app/tools.js";
import { button, choices, numberField, pairs, select, slider, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { fullName, length } from "../words.js";
import { atRest, ring } from "./ring.js";

const KINDS = { add: "Add", take: "Take", set: "Bring to", even: "Even out", sharpen: "Sharpen", blend: "Blend" };
const OF_ONE = ["add", "take", "set"]; // for one joint; the others are for all that hold a point
const REACH = { skin: "along the skin", ball: "straight through" };
const LONGEST = 4000; // places of one stroke: a hand that rubs on goes on in the next
const NEAR = 14; // pixels from point to point: from here on weights are drawn on them

class WeightBrush extends PlateTool {
  kind = "add";
  size = 0; // metres; nothing: a share of the height
  strength = 0.5;
  value = 1;
  fading = 1;
  through = false;
  front = true;
  /** @type {any} */ spot = null;
  /** @type {any} */ dial = null; // where the ring stands while the hand sets it
  /** @type {any} */ now = null; // the stroke in the hand
  last = Promise.resolve(); // until the strokes before are steps

  enter(b) {
    super.enter(b);
    this.size ||= 0.035 * b.state.height;
    this.up = (e) => {
      if (e.key === "d") this.letGo();
    };
    addEventListener("keyup", this.up);
    b.plate.layers = { ...b.plate.layers, controls: false }; // they would lie over what is painted
    b.ui.skinMap = "joint";
    this.changed();
  }
  leave() {
    removeEventListener("keyup", this.up);
    this.b.plate.layers = { ...this.b.plate.layers, controls: true };
    this.spot = this.dial = null;
    this.b.plate.dotted = [];
    super.leave();
  }
  get joint() {
    return this.b.plate.selected.joint;
  }
  get ofOne() {
    return OF_ONE.includes(this.kind);
  }
  get locked() {
    return this.b.state.skin?.locked.includes(this.joint);
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
    b.plate.dotted = [];
    if (!at) {
      b.plate.tip = null;
      this.wish();
      return;
    }
    const label = this.dial ? `${length(this.size)} · ${this.strength.toFixed(2)}` : "";
    this.wish(...ring(b.plate.axes(at.view), at.place, this.size, this.strength, label));
    if (!this.dial) this.say(at);
  }
  /** Near enough, each point under the ring shows its weight, and the one under the pointer says it. */
  say(spot) {
    const { plate } = this.b,
      values = plate.drawn.values;
    plate.tip = null;
    if (!values) return;
    const name = this.kind === "blend" ? "dual" : fullName(this.joint);
    plate.tip = { x: spot.x, y: spot.y + 44, text: `${name} ${values[spot.hit.point].toFixed(2)}` };
    const points = plate.drawn.near(spot.place, this.size);
    const far = this.size * Math.sqrt(Math.PI / Math.max(points.length, 1)); // metres from point to point, about
    if (points.length < 1500 && far / spot.metre > NEAR) plate.dotted = points;
  }

  /** d held: the ring stays; the hand's distance from its middle is its size, its turn round it the strength. */
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

  // -- strokes -------------------------------------------------------------------------------------------------------
  params() {
    return {
      brush: this.kind,
      joint: this.ofOne ? this.joint : "",
      radius: this.size,
      strength: this.strength,
      value: this.value,
      fading: this.fading,
      through: this.through,
      front: this.front,
      both_sides: this.b.symmetry,
    };
  }
  refused() {
    if (!this.b.state.skin) return "Bind the skin first.";
    if (this.ofOne && !this.joint) return "Choose the joint whose weight you paint, on the left.";
    if (this.ofOne && this.locked) return `${fullName(this.joint)} is locked: unlock it first.`;
    return "";
  }

  stroke(spot, done) {
    const { b } = this;
    if (!this.now && !done) {
      const why = this.refused();
      if (why) toast(why);
      this.now = { rows: [], told: 0, refused: !!why, begun: false, params: this.params() };
      if (!why) this.begin(this.now);
    }
    const { now } = this;
    if (!now) return;
    if (spot?.hit && !now.refused) {
      now.rows.push(atRest(b.plate.drawn, spot));
      this.spot = spot;
      this.feed(now);
      if (now.rows.length >= LONGEST) {
        this.now = null;
        this.last = this.end(now);
      }
    }
    this.show();
    if (done) {
      this.now = null;
      if (!now.refused && now.rows.length) this.last = this.end(now);
    }
  }
  /** A stroke builds on the one before: its places wait until that one has become a step. */
  begin(now) {
    now.ready = this.last
      .then(() => this.b.queue)
      .then(() => {
        this.b.live.beginStroke("skin", this.b.position().step, { ...now.params, shows: this.joint });
        now.begun = true;
        this.feed(now);
      });
  }
  feed(now) {
    if (!now.begun) return;
    while (now.told < now.rows.length) this.b.live.sample(now.rows[now.told++]);
  }
  async end(now) {
    await now.ready;
    await this.b.live.endStroke();
    await this.b.step("skin.paint", { ...now.params, samples: now.rows }, { quiet: true, keepPose: true });
  }
  /** What came of the places that were sent. */
  stroked({ blocks }) {
    if (blocks) this.b.plate.setPatch(blocks.at, blocks.places, blocks.values);
  }

  /** Another kind; the skin shows what it changes. */
  take(kind) {
    const { b } = this,
      map = kind === "blend" ? "blend" : "joint";
    this.kind = kind;
    if (b.ui.skinMap !== map) {
      b.ui.skinMap = map;
      b.kind.picked(b);
    }
    this.changed();
  }

  // -- its panel -----------------------------------------------------------------------------------------------------
  panel(b) {
    const set = (field) => (v) => {
      this[field] = v;
      this.changed();
    };
    const share = (field, label) =>
      slider(label, this[field], { low: 0, high: 1, step: 0.01, oninput: (e) => set(field)(Number(e.target.value)) });
    const ticked = (field, label, title) => switchButton(label, this[field], () => set(field)(!this[field]), title);
    return [
      choices(KINDS, this.kind, (kind) => this.take(kind)),
      this.ofOne
        ? whose(b, this)
        : h(
            "p",
            { class: "soft" },
            this.kind === "blend"
              ? "0 is linear, 1 by dual quaternions."
              : "For all joints that hold a point; locked ones stay.",
          ),
      pairs(
        [
          "size, cm",
          numberField("size, cm", (100 * this.size).toFixed(1), (v) => set("size")(Math.max(v, 0.01) / 100)),
        ],
        [
          h("span", {}, "strength ", h("span", { class: "fig" }, this.strength.toFixed(2))),
          share("strength", "strength"),
        ],
        this.kind === "set" || this.kind === "blend"
          ? [h("span", {}, "to ", h("span", { class: "fig" }, this.value.toFixed(2))), share("value", "to")]
          : null,
        ["fades over", share("fading", "fades over")],
        ["reach", select("reach", REACH, this.through ? "ball" : "skin", (k) => set("through")(k === "ball"))],
      ),
      h(
        "div",
        { class: "acts" },
        ticked("front", "Front only", "Only what faces you"),
        switchButton("Both sides", b.symmetry, () => {
          b.symmetry = !b.symmetry;
          this.changed();
        }),
      ),
    ];
  }
}

function whose(b, tool) {
  const { joint } = tool;
  if (!joint) return h("p", { class: "empty" }, "Choose the joint whose weight you paint, on the left.");
  const on = !tool.locked;
  return h(
    "p",
    { class: "whose" },
    h("strong", {}, fullName(joint)),
    " ",
    button(on ? "Lock" : "Unlock", () => b.step("skin.lock", { joints: [joint], on }), "small quiet"),
  );
}

enterTool(
  new WeightBrush({
    name: "brush",
    title: "Weight brush",
    label: "Brush",
    station: "skin",
    key: "w",
    hint: "Stroke the skin. Hold d: the ring stays, and your hand's distance and turn round it set size and strength.",
  }),
);
