// Sculpting a shape on the figure, at rest or in whatever pose it stands.
import { enterTool } from "../app/tools.js";
import { plus } from "../plate/space.js";
import { chosenShape, turnOn } from "../stations/shapelist.js";
import { acts, button, choices, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { fullName, inWords } from "../words.js";
import { atRest } from "./ring.js";
import { RingTool } from "./strokes.js";

const KINDS = {
  pull: "Pull",
  swell: "Swell",
  sink: "Sink",
  even: "Even out",
  calm: "Calm",
  flatten: "Flatten",
  back: "Back to rest",
};
const DOES = {
  pull: "What lies under the ring goes with your hand.",
  swell: "Out of the surface.",
  sink: "Into the surface.",
  even: "Smooths the surface as long as you rub.",
  calm: "Smooths what the shape moves, and keeps what was modelled.",
  flatten: "On to one plane.",
  back: "Takes away what the shape moves.",
};
const REACH = { skin: "along the skin", ball: "straight through" };
const LONGEST = 4000; // places of one stroke
const RUBBED = 12; // how often “even out there” rubs
const QUIETLY = { quiet: true, keepPose: true };

class Sculpt extends RingTool {
  kind = "pull";
  share = 0.045;
  through = false;
  front = false;
  rims = true;
  within = true; // the shape's region alone, where it has one

  enter(b) {
    super.enter(b);
    this.pick();
  }
  /** Another shape is chosen: it is turned up, to be seen. */
  pick() {
    const shape = chosenShape(this.b);
    if (shape) turnOn(this.b, shape);
    this.changed();
  }
  get region() {
    return this.within ? (chosenShape(this.b)?.region ?? "") : "";
  }

  params() {
    const { b } = this;
    return {
      shape: b.ui.shape,
      brush: this.kind,
      radius: this.size,
      strength: this.kind === "pull" ? 1 : this.strength,
      fading: this.fading,
      through: this.through,
      front: this.front,
      both_sides: b.symmetry,
      region: this.region,
      rims: this.rims,
      over: b.over,
      ...(b.trial ? { trial: b.trial } : { pose: structuredClone(b.values) }),
    };
  }
  refused() {
    const { b } = this;
    if (!chosenShape(b)) return "Choose the shape on the left, or begin one.";
    if (Math.abs(b.strengths[b.ui.shape] ?? 0) < 0.05) return "The shape is off in this pose: turn its strength up.";
    return "";
  }

  stroke(spot, done) {
    if (!this.now && !done) {
      const why = this.refused(),
        params = this.params();
      if (why) toast(why);
      this.now = why
        ? { refused: true, rows: [] }
        : Object.assign(this.strokes.begin("sculpt", params), { params, start: spot });
    }
    const { now } = this;
    if (!now) return;
    if (spot && !now.refused) {
      const row = this.row(now, spot);
      if (row) this.strokes.add(now, row);
      if (now.rows.length >= LONGEST) this.end(now);
    }
    this.show();
    if (done) this.end(now);
  }
  /** What the server is told of one place of the hand. */
  row(now, spot) {
    const { plate } = this.b;
    if (this.kind !== "pull") {
      if (!spot.hit) return null;
      this.spot = spot;
      return atRest(plate.drawn, spot);
    }
    if (!now.rows.length) {
      if (!spot.hit) return null;
      now.first = atRest(plate.drawn, spot);
      return now.first;
    }
    const { start } = now,
      to = plate.unproject(start.view, start.place, spot.x - start.x, spot.y - start.y);
    this.spot = { ...start, place: to };
    return [...now.first.slice(0, 4), ...plus(to, start.place, -1)];
  }
  end(now) {
    this.now = null;
    if (!now.rows.length) return;
    const pulled = now.params.brush === "pull";
    if (pulled && now.rows.length < 2) now.rows.push([...now.first.slice(0, 4), 0, 0, 0]);
    const samples = pulled ? [now.rows[0], now.rows.at(-1)] : now.rows;
    this.strokes.end(now, "shapes.sculpt", { ...now.params, samples });
  }

  /** The worst place of the trial that is looked at, which the hand may not reach: deep in a fold. */
  worst(b) {
    const card = b.strip.now.get(b.trial) ?? b.strip.chosen();
    if (!card) return null;
    const look = () => {
      b.plate.marked = [card.worst_point];
      b.plate.lookAt(b.plate.pointPlace(card.worst_point));
      b.plate.draw();
    };
    const even = () => {
      const why = this.refused();
      if (why) {
        toast(why);
        return;
      }
      const at = b.plate.triangles.indexOf(card.worst_point),
        row = [Math.floor(at / 3), at % 3 === 1 ? 1 : 0, at % 3 === 2 ? 1 : 0, 1, 0, 0, 0];
      const samples = Array(RUBBED).fill(row);
      b.step("shapes.sculpt", { ...this.params(), brush: "even", strength: this.strength, samples }, QUIETLY);
    };
    return [
      h("h3", {}, "Its worst place"),
      h("p", {}, `${inWords(card.worst)}, at ${fullName(card.worst_joint)}.`),
      acts(
        button("Look there", look, "small"),
        button("Even out there", even, "small mend", { title: "One stroke of this ring, also where no hand gets to" }),
      ),
    ];
  }

  panel(b) {
    const shape = chosenShape(b);
    if (!shape) return h("p", { class: "empty" }, "Choose the shape on the left, or begin one.");
    return [
      h("p", { class: "whose" }, h("strong", {}, shape.name), b.trial ? ` in “${b.trial}”` : ""),
      choices(KINDS, this.kind, this.set("kind")),
      h("p", { class: "soft" }, DOES[this.kind]),
      pairs(
        this.sizeField(),
        this.kind === "pull" ? null : this.strengthField(),
        ["fades over", this.shareField("fading", "fades over")],
        ["reach", select("reach", REACH, this.through ? "ball" : "skin", (k) => this.set("through")(k === "ball"))],
      ),
      h(
        "div",
        { class: "acts" },
        this.bothSides(),
        this.ticked("front", "Front only", "Only what faces you"),
        shape.region ? this.ticked("within", `Only ${shape.region}`, "Nothing outside its region is touched") : null,
        b.state.regions.some((r) => r.rim) ? this.ticked("rims", "Even rims", "Coloured bands keep their width") : null,
      ),
      this.worst(b),
    ];
  }
}

enterTool(
  new Sculpt({
    name: "sculpt",
    title: "Sculpt",
    station: "shapes",
    key: "w",
    hint: "Stroke the figure. Hold d: the ring stays; your hand's distance and turn round it set size and strength.",
  }),
);
