// A shape moved, turned and sized as a whole about a pivot: handles on the plate, figures beside.
import { enterTool, PlateTool } from "../app/tools.js";
import { plus } from "../plate/space.js";
import { chosenShape, turnOn } from "../stations/shapelist.js";
import { acts, button, choices, numberField, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { Strokes } from "./strokes.js";

const KEEP = { "": "as said", x: "from x", y: "from y", z: "from z" };
const AXES = ["x", "y", "z"];
const NOTHING = () => ({ move: [0, 0, 0], turn: [0, 0, 0], size: [1, 1, 1] });

class Place extends PlateTool {
  part = "";
  keep = "";
  /** @type {any} */ pivot = null;
  /** @type {any} */ now = null;
  how = NOTHING();
  /** @type {Strokes} */ strokes;

  enter(b) {
    super.enter(b);
    this.strokes ??= new Strokes(b);
    b.toRest(); // a whole shape is placed at rest
    this.pick();
  }
  leave() {
    this.b.plate.landmarks = [];
    super.leave();
  }
  pick() {
    const shape = chosenShape(this.b);
    if (shape) turnOn(this.b, shape);
    this.how = NOTHING();
    this.centre();
  }
  /** The pivot in the middle of what is meant. */
  centre() {
    const { b } = this,
      { rest } = b.plate,
      part = b.state.parts.find((p) => p.name === this.part),
      [first, end] = part ? part.points : [0, rest.length / 3];
    const low = [Infinity, Infinity, Infinity],
      high = [-Infinity, -Infinity, -Infinity];
    for (let i = first; i < end; i++)
      for (let k = 0; k < 3; k++) {
        low[k] = Math.min(low[k], rest[3 * i + k]);
        high[k] = Math.max(high[k], rest[3 * i + k]);
      }
    this.arm = (part ? 0.6 : 0.42) * Math.max(...high.map((v, k) => v - low[k]));
    this.pivot = low.map((v, k) => (v + high[k]) / 2);
    this.show();
  }
  /** Sizes as they will be: those that keep the volume follow the one that is given. */
  get size() {
    const at = AXES.indexOf(this.keep);
    if (at < 0) return this.how.size;
    const along = Math.max(this.how.size[at], 0.01);
    return AXES.map((_, k) => (k === at ? along : along ** -0.5));
  }
  show() {
    const { b } = this;
    const mark = (name, label, place) => ({ name, label, place, moved: false });
    const unit = (k) => [0, 1, 2].map((i) => (i === k ? 1 : 0));
    b.plate.landmarks = [
      mark("pivot", "pivot", this.pivot),
      mark("move", "move", plus(this.pivot, plus(this.how.move, [0.35 * this.arm, 0.35 * this.arm, 0], 1))),
      ...AXES.map((axis, k) => mark(axis, axis, plus(this.pivot, unit(k), this.arm * this.size[k]))),
    ];
    this.wish(...AXES.map((_, k) => ({ line: [this.pivot, plus(this.pivot, unit(k), this.arm * this.size[k])] })));
    this.changed();
  }

  drag(name, place, done) {
    const { how } = this,
      way = plus(place, this.pivot, -1);
    if (name === "pivot") this.pivot = place;
    else if (name === "move") how.move = plus(way, [0.35 * this.arm, 0.35 * this.arm, 0], -1);
    else {
      const k = AXES.indexOf(name);
      if (this.keep) this.keep = name;
      how.size = how.size.map((v, i) => (i === k ? Math.min(Math.max(way[k] / this.arm, 0.05), 10) : v));
    }
    this.show();
    if (name !== "pivot") this.said(done);
  }

  /** Tell the server; once the hand has let go, as a step. */
  said(done) {
    const { b } = this;
    if (!chosenShape(b)) {
      if (done) toast("Choose the shape on the left, or begin one.");
      return;
    }
    const whole = { shape: b.ui.shape, part: this.part, region: chosenShape(b).region };
    const told = { pivot: [...this.pivot], move: [...this.how.move], turn: [...this.how.turn], size: [...this.size] };
    this.now ??= this.strokes.begin("place", whole);
    this.strokes.add(this.now, [...told.pivot, ...told.move, ...told.turn, ...told.size]);
    if (!done) return;
    const { now } = this;
    this.now = null;
    this.how = NOTHING();
    this.strokes.end(now, "shapes.place", { ...whole, ...told });
    this.show();
  }
  stroked({ blocks }) {
    if (blocks) this.b.plate.setPatch(blocks.at, blocks.places, null);
  }

  panel(b) {
    const shape = chosenShape(b);
    if (!shape) return h("p", { class: "empty" }, "Choose the shape on the left, or begin one.");
    const figure = (of, k, out, digits) =>
      numberField(`${of} ${AXES[k]}`, (this.how[of][k] * out).toFixed(digits), (v) => {
        this.how[of] = this.how[of].map((was, i) => (i === k ? v / out : was));
        this.show();
      });
    const row = (of, words, out, digits) =>
      h(
        "div",
        { class: "triple", key: of },
        h("span", {}, words),
        AXES.map((_, k) => figure(of, k, out, digits)),
      );
    const parts = [["", "all of it"], ...b.state.parts.map((p) => [p.name, p.name])];
    const volume = this.size.reduce((v, s) => v * s, 1);
    return [
      h("p", { class: "whose" }, h("strong", {}, shape.name), shape.region ? `, ${shape.region} only` : ""),
      pairs([
        "of",
        select("part", parts, this.part, (name) => {
          this.part = name;
          this.centre();
        }),
      ]),
      row("move", "move, cm", 100, 1),
      row("turn", "turn, °", 1, 0),
      row("size", "size", 1, 2),
      pairs(["volume", h("span", { class: "fig" }, `× ${volume.toFixed(2)}`)]),
      h("p", { class: "soft" }, "Squash and stretch that keeps the volume:"),
      choices(KEEP, this.keep, (k) => {
        this.keep = k;
        this.show();
      }),
      acts(
        button("Do it", () => this.said(true), "small mend"),
        button("Nothing", () => this.pick(), "small quiet"),
      ),
    ];
  }
}

enterTool(
  new Place({
    name: "place",
    title: "Move the whole",
    label: "Whole",
    station: "shapes",
    key: "x",
    hint: "Drag “move” and the three ends, or type; all of the shape, or one part, goes with them.",
  }),
);
