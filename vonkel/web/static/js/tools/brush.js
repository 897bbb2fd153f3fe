// The brush over skin weights.  What the hand passes goes to the server place by place; when it lets go, the places
// become one step.
import { enterTool } from "../app/tools.js";
import { button, choices, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { fullName } from "../words.js";
import { atRest } from "./ring.js";
import { RingTool } from "./strokes.js";

const KINDS = { add: "Add", take: "Take", set: "Bring to", even: "Even out", sharpen: "Sharpen", blend: "Blend" };
const OF_ONE = ["add", "take", "set"]; // for one joint; the others are for all that hold a point
const REACH = { skin: "along the skin", ball: "straight through" };
const LONGEST = 4000; // places of one stroke: a hand that rubs on goes on in the next
const NEAR = 14; // pixels from point to point: from here on weights are drawn on them

class WeightBrush extends RingTool {
  kind = "add";
  value = 1;
  through = false;
  front = true;

  enter(b) {
    super.enter(b);
    b.ui.skinMap = "joint";
    this.changed();
  }
  leave() {
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

  show() {
    this.b.plate.dotted = [];
    super.show();
    if (this.spot && !this.dial) this.say(this.spot);
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
      const params = this.params();
      this.now = why
        ? { refused: true, rows: [] }
        : Object.assign(this.strokes.begin("skin", { ...params, shows: this.joint }), { params });
    }
    const { now } = this;
    if (!now) return;
    if (spot?.hit && !now.refused) {
      this.strokes.add(now, atRest(b.plate.drawn, spot));
      this.spot = spot;
      if (now.rows.length >= LONGEST) this.end(now);
    }
    this.show();
    if (done) this.end(now);
  }
  end(now) {
    this.now = null;
    if (now.rows.length) this.strokes.end(now, "skin.paint", { ...now.params, samples: now.rows });
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
        this.sizeField(),
        this.strengthField(),
        this.kind === "set" || this.kind === "blend"
          ? [h("span", {}, "to ", h("span", { class: "fig" }, this.value.toFixed(2))), this.shareField("value", "to")]
          : null,
        ["fades over", this.shareField("fading", "fades over")],
        ["reach", select("reach", REACH, this.through ? "ball" : "skin", (k) => this.set("through")(k === "ball"))],
      ),
      h("div", { class: "acts" }, this.ticked("front", "Front only", "Only what faces you"), this.bothSides()),
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
