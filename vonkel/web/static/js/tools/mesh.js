// Tools that work on the mesh: measure, slide a loop in, triangles, fold lines, a mouth bag.
import { enterTool, PlateTool } from "../app/tools.js";
import { call } from "../net/api.js";
import { acts, button, choices, form, own, pairs, slider, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say, toast } from "../widgets/toasts.js";
import { length } from "../words.js";
import { asker } from "./ask.js";

const under = (b, body) => call("POST", `/api/c/${b.number}/under`, body);

/** What tools that pick on the mesh have in common: picks are points and faces by number. */
class MeshTool extends PlateTool {
  constructor(about) {
    super({ station: "model", ...about });
  }
  enter(b) {
    super.enter(b);
    this.reset();
  }
  reset() {
    /** @type {number[]} */ this.picked = [];
    /** @type {any} */ this.found = null;
    this.wish();
    this.changed();
  }
  /** Picks hold while the mesh only moves. */
  meshChanged(same) {
    if (!same) this.reset();
  }
  /** The picked points as places. */
  dots() {
    return this.picked.map((i) => this.b.plate.pointPlace(i));
  }
  async ask(body) {
    try {
      return await under(this.b, body);
    } catch (error) {
      say(error);
      return null;
    }
  }
  /** Do a step, and begin anew when it was done. */
  async cut(step, params) {
    if (await this.b.step(step, params)) this.reset();
  }
}

// -- measure -------------------------------------------------------------------------------------------------------
const KINDS = { height: "height of a place", between: "between two", around: "around" };
const AXES = {
  between: { "": "straight", x: "across", y: "up", z: "along" },
  around: { "": "level", x: "across x", z: "across z" },
};
const ASKS = {
  height: "Click a place, such as the withers: its height over the lowest point.",
  between: "Click two places on the mesh.",
  around: "Click a place: the length round the body there.",
};

class Measure extends MeshTool {
  kind = "between";
  axis = "";
  get wanted() {
    return this.kind === "between" ? 2 : 1;
  }
  async click(spot) {
    if (!spot.hit) {
      toast("Click on the mesh.");
      return;
    }
    if (this.picked.length >= this.wanted) this.picked = [];
    this.picked.push(spot.hit.point);
    await this.look();
  }
  async look() {
    const whole = this.picked.length === this.wanted;
    this.found = whole ? await this.ask({ what: this.kind, points: this.picked, axis: this.axis }) : null;
    const dots = { line: this.dots(), dots: true };
    if (!this.found) this.wish(dots);
    else {
      const { line, metres } = this.found;
      this.wish(dots, { line, label: length(metres), dashed: this.kind !== "around" });
    }
    this.changed();
  }
  async scale(cm) {
    const measure = this.kind === "height" ? "place" : this.kind;
    const params = { measure, points: this.picked, axis: this.axis, metres: Number(cm) / 100 };
    if (await this.b.step("model.resize", params)) await this.look();
  }
  panel() {
    const done = this.found,
      now = done ? (100 * done.metres).toFixed(2) : "";
    const must = own.number("cm", "what it must be, cm", now, {
      key: now,
      step: "any",
      min: 0.1,
      "data-keep": "measure-cm",
    });
    return [
      choices(KINDS, this.kind, (k) => {
        this.kind = k;
        this.axis = "";
        this.reset();
      }),
      AXES[this.kind]
        ? choices(AXES[this.kind], this.axis, (a) => {
            this.axis = a;
            this.look();
          })
        : null,
      h("p", { class: "soft" }, ASKS[this.kind]),
      done
        ? form(
            ({ cm }) => this.scale(cm),
            pairs(["measured", h("span", { class: "fig" }, length(done.metres))], ["must be, cm", must]),
            acts(submit("Scale everything to it", "mend small")),
          )
        : null,
    ];
  }
}

// -- slide a loop in -----------------------------------------------------------------------------------------------
class Loop extends MeshTool {
  at = 0.5;
  sure = false;
  enter(b) {
    super.enter(b);
    const edge = (s) =>
      under(b, { what: "edge", triangle: s.hit.triangle, place: s.place }).catch((error) => {
        if (error.status >= 500) say(error);
      });
    this.look = asker(edge, (found) => {
      if (this.sure || b.tool !== this) return;
      this.take(found);
    });
  }
  reset() {
    super.reset();
    this.sure = false;
  }
  take(found) {
    this.found = found;
    this.at = found.at;
    this.show();
  }
  show() {
    const { ends, closed } = this.found,
      t = this.at;
    this.wish({ line: ends[0].map((a, i) => a.map((v, k) => v * (1 - t) + ends[1][i][k] * t)), closed });
  }
  hover(spot) {
    if (spot.hit && !this.sure) this.look(spot);
  }
  async click(spot) {
    if (!spot.hit) return;
    this.sure = false;
    const found = await this.ask({ what: "edge", triangle: spot.hit.triangle, place: spot.place });
    if (!found) return;
    this.sure = true;
    this.take(found);
    this.changed();
  }
  panel(b) {
    if (!this.sure) return null;
    const slide = (e) => {
      this.at = Number(e.target.value);
      this.show();
      this.changed();
    };
    const put = () => this.cut("model.slide_loop", { edge: this.found.edge, at: this.at, both_sides: b.symmetry });
    return [
      h("p", { class: "soft" }, `A ring of ${this.found.edges} edges${this.found.closed ? ", closed" : ""}.`),
      pairs(
        ["where", slider("where on the edge", this.at, { low: 0.03, high: 0.97, step: 0.01, oninput: slide })],
        ["", h("span", { class: "fig" }, `${Math.round(100 * this.at)} %`)],
      ),
      acts(
        button("Slide it in", put, "mend small"),
        button("Another", () => this.reset(), "small"),
      ),
    ];
  }
}

// -- triangles -----------------------------------------------------------------------------------------------------
class Triangles extends MeshTool {
  reset() {
    this.faces = new Map();
    super.reset();
  }
  async click(spot) {
    if (!spot.hit) return;
    const found = await this.ask({ what: "face", triangle: spot.hit.triangle });
    if (!found) return;
    if (this.faces.has(found.face)) this.faces.delete(found.face);
    else if (found.size > 3) this.faces.set(found.face, found.line);
    else {
      toast("That is a triangle already.");
      return;
    }
    this.wish(...[...this.faces.values()].map((line) => ({ line, closed: true })));
    this.changed();
  }
  panel() {
    const cut = (other) => () => this.cut("model.triangulate", { faces: [...this.faces.keys()], other_way: other });
    return [
      h("p", { class: "soft" }, `${this.faces.size} faces chosen.`),
      this.faces.size
        ? acts(button("Cut, short diagonal", cut(false), "mend small"), button("The other way", cut(true), "small"))
        : null,
    ];
  }
}

// -- fold lines ----------------------------------------------------------------------------------------------------
class FoldLine extends MeshTool {
  async click(spot) {
    if (!spot.hit) return;
    this.picked.push(spot.hit.point);
    const dots = this.dots();
    this.found = this.picked.length > 1 ? await this.ask({ what: "path", points: this.picked }) : null;
    if (this.picked.length > 1 && !this.found) this.picked.pop();
    this.wish({ line: dots, dots: true }, ...(this.found ? [{ line: this.found.line }] : []));
    this.changed();
  }
  panel(b) {
    const cut = () => this.cut("model.cut", { points: this.picked, both_sides: b.symmetry });
    return [
      this.found ? h("p", { class: "soft" }, `${this.found.points.length - 1} edges.`) : null,
      acts(
        this.found ? button("Cut here", cut, "mend small") : null,
        this.picked.length ? button("Begin anew", () => this.reset(), "small") : null,
      ),
    ];
  }
}

// -- mouth bag -----------------------------------------------------------------------------------------------------
class Bag extends MeshTool {
  async click(spot) {
    if (!spot.hit) return;
    this.found = await this.ask({ what: "border", points: [spot.hit.point] });
    if (this.found) this.wish({ line: this.found.line, closed: true });
    this.changed();
  }
  panel(b) {
    if (!this.found) return null;
    return [
      h("p", { class: "soft" }, `A border of ${this.found.count} points.`),
      stepForm(b, "model.mouth_bag", {
        label: "Grow the bag",
        kind: "mend small",
        fields: { centimetres: "depth, cm", rings: "rings" },
        values: { centimetres: (8 * b.state.height).toFixed(1), rings: 4 },
        fixed: () => ({ point: this.found.point }),
        done: () => this.reset(),
      }),
    ];
  }
}

enterTool(
  new Measure({
    name: "measure",
    title: "Measure",
    key: "m",
    hint: "Take a length off the model and type what it must be.",
  }),
);
enterTool(
  new Loop({
    name: "loop",
    title: "Slide in a loop",
    key: "e",
    hint: "Move over the mesh: the new loop shows. Click to hold it, then slide it.",
  }),
);
enterTool(new Triangles({ name: "triangles", title: "Cut quads", hint: "Click quads to cut them into triangles." }));
enterTool(
  new FoldLine({
    name: "fold",
    title: "Fold line",
    hint: "Click points; the mesh opens along the edges between them.",
  }),
);
enterTool(new Bag({ name: "bag", title: "Mouth bag", hint: "Click beside an open lip border." }));
