// Tools that work on the mesh: measure, slide a loop in, triangles, fold lines, a mouth bag.
// A tool has a title, a hint, what clicks and hovers do, and a panel for the right sheet.
import { call, h, length, say, toast } from "../dom.js";
import { button, choices, pairs, plain } from "../stations/common.js";
import { asker } from "./ask.js";

const under = (b, body) => call("POST", `/api/c/${b.number}/under`, body);

class MeshTool {
  constructor(name, title, hint) {
    Object.assign(this, { name, title, hint, station: "model" });
  }
  enter(b) {
    this.b = b;
    this.reset();
  }
  leave() {
    this.b.plate.wishes = [];
  }
  reset() {
    this.picked = [];
    this.found = null;
    this.b.plate.wishes = [];
    this.b.plate.draw();
  }
  /** Picks are points and faces by number: they hold while the mesh only moves. */
  meshChanged(same) {
    if (!same) this.reset();
  }
  wish(...wishes) {
    this.b.plate.wishes = wishes;
    this.b.plate.draw();
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
}

// -- measure -------------------------------------------------------------------------------------------------------
const KINDS = { height: "height of a place", between: "between two", around: "around" };

class Measure extends MeshTool {
  kind = "between";
  axis = "";
  async click(spot) {
    if (!spot.hit) {
      toast("Click on the mesh.");
      return;
    }
    const wanted = this.kind === "between" ? 2 : 1;
    if (this.picked.length >= wanted) this.picked = [];
    this.picked.push(spot.hit.point);
    await this.look(wanted);
  }
  async look(wanted = this.kind === "between" ? 2 : 1) {
    const dots = this.dots();
    this.found =
      this.picked.length === wanted ? await this.ask({ what: this.kind, points: this.picked, axis: this.axis }) : null;
    this.wish(
      { line: dots, dots: true },
      ...(this.found
        ? [{ line: this.found.line, label: length(this.found.metres), dashed: this.kind !== "around" }]
        : []),
    );
    this.b.sheets();
  }
  panel(b) {
    const done = this.found,
      field = done
        ? h("input", {
            type: "number",
            value: (100 * done.metres).toFixed(2),
            step: "any",
            min: 0.1,
            "aria-label": "what it must be, cm",
            "data-keep": "measure-cm",
          })
        : null;
    const measure = this.kind === "height" ? "place" : this.kind;
    const set = async () => {
      if (
        await b.step("model.resize", {
          measure,
          points: this.picked,
          axis: this.axis,
          metres: Number(field.value) / 100,
        })
      )
        await this.look();
    };
    field?.addEventListener("keydown", (e) => {
      if (e.key === "Enter") set();
    });
    return [
      choices(KINDS, this.kind, (k) => {
        this.kind = k;
        this.reset();
        b.sheets();
      }),
      this.kind === "height"
        ? null
        : choices(
            this.kind === "between"
              ? { "": "straight", x: "across", y: "up", z: "along" }
              : { "": "level", x: "across x", z: "across z" },
            this.axis,
            (a) => {
              this.axis = a;
              this.look();
            },
          ),
      h(
        "p",
        { class: "soft" },
        {
          height: "Click a place, such as the withers: its height over the lowest point.",
          between: "Click two places on the mesh.",
          around: "Click a place: the length round the body there.",
        }[this.kind],
      ),
      done ? pairs(["measured", h("span", { class: "fig" }, length(done.metres))], ["must be, cm", field]) : null,
      done ? h("div", { class: "acts" }, button("Scale everything to it", set, "mend small")) : null,
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
      if (!this.sure) {
        this.found = found;
        this.at = found.at;
        this.show();
      }
    });
  }
  reset() {
    super.reset();
    this.sure = false;
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
    this.found = found;
    this.at = found.at;
    this.sure = true;
    this.show();
    this.b.sheets();
  }
  panel(b) {
    if (!this.sure) return [];
    const figure = h("span", { class: "fig" }, `${Math.round(100 * this.at)} %`);
    const slide = h("input", {
      type: "range",
      min: 0.03,
      max: 0.97,
      step: 0.01,
      value: String(this.at),
      "aria-label": "where on the edge",
      oninput: (e) => {
        this.at = Number(e.target.value);
        figure.textContent = `${Math.round(100 * this.at)} %`;
        this.show();
      },
    });
    return [
      h("p", { class: "soft" }, `A ring of ${this.found.edges} edges${this.found.closed ? ", closed" : ""}.`),
      pairs(["where", slide], ["", figure]),
      h(
        "div",
        { class: "acts" },
        button(
          "Slide it in",
          async () => {
            if (await b.step("model.slide_loop", { edge: this.found.edge, at: this.at, both_sides: b.symmetry })) {
              this.reset();
              b.sheets();
            }
          },
          "mend small",
        ),
        button(
          "Another",
          () => {
            this.reset();
            b.sheets();
          },
          "small",
        ),
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
    this.b.sheets();
  }
  panel(b) {
    const cut = (other) => async () => {
      if (await b.step("model.triangulate", { faces: [...this.faces.keys()], other_way: other })) {
        this.reset();
        b.sheets();
      }
    };
    return [
      h("p", { class: "soft" }, `${this.faces.size} faces chosen.`),
      this.faces.size
        ? h(
            "div",
            { class: "acts" },
            button("Cut, short diagonal", cut(false), "mend small"),
            button("The other way", cut(true), "small"),
          )
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
    this.b.sheets();
  }
  panel(b) {
    return [
      this.found ? h("p", { class: "soft" }, `${this.found.points.length - 1} edges.`) : null,
      h(
        "div",
        { class: "acts" },
        this.found
          ? button(
              "Cut here",
              async () => {
                if (await b.step("model.cut", { points: this.picked, both_sides: b.symmetry })) {
                  this.reset();
                  b.sheets();
                }
              },
              "mend small",
            )
          : null,
        this.picked.length
          ? button(
              "Begin anew",
              () => {
                this.reset();
                b.sheets();
              },
              "small",
            )
          : null,
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
    this.b.sheets();
  }
  panel(b) {
    if (!this.found) return [];
    const depth = plain("depth, cm", (8 * b.state.height).toFixed(1), { step: 0.1, min: 0.1 }),
      rings = plain("rings", 4, { min: 1, max: 40, step: 1 });
    return [
      h("p", { class: "soft" }, `A border of ${this.found.count} points.`),
      pairs(["depth, cm", depth], ["rings", rings]),
      h(
        "div",
        { class: "acts" },
        button(
          "Grow the bag",
          async () => {
            if (
              await b.step("model.mouth_bag", {
                point: this.found.point,
                centimetres: Number(depth.value),
                rings: Number(rings.value),
              })
            ) {
              this.reset();
              b.sheets();
            }
          },
          "mend small",
        ),
      ),
    ];
  }
}

/** @type {Record<string, import("../../types/page").Tool>} */
export const MESH_TOOLS = {
  measure: new Measure("measure", "Measure", "Take a length off the model and type what it must be."),
  loop: new Loop("loop", "Slide in a loop", "Move over the mesh: the new loop shows. Click to hold it, then slide it."),
  triangles: new Triangles("triangles", "Cut quads", "Click quads to cut them into triangles."),
  fold: new FoldLine("fold", "Fold line", "Click points; the mesh opens along the edges between them."),
  bag: new Bag("bag", "Mouth bag", "Click beside an open lip border."),
};
