// Drawing chains of joints: every click lands inside the body; the chain shows in all drawings until it is finished.
import { enterTool, PlateTool } from "../app/tools.js";
import { call } from "../net/api.js";
import { acts, button, choices, pairs, select, textField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";
import { plainName } from "../words.js";
import { asker } from "./ask.js";

const SNAPS = { middle: "middle of the flesh", loop: "loop centre", part: "part centre", point: "point" };
const ON = {
  middle: "in the middle of the flesh",
  loop: "in an edge loop",
  part: "in a part",
  point: "on a point",
  joint: "on a joint",
  air: "beside the body",
};
const NEAR = 9, // pixels within which a click means what lies there
  FARTHEST = 50; // metres that a click may reach at all

class Draw extends PlateTool {
  snap = "middle";
  word = "chain";
  end = true;
  /** @type {number[] | null} */ start = null;

  enter(b) {
    super.enter(b);
    this.reset();
  }
  reset() {
    /** @type {number[][]} */ this.places = [];
    this.parent = "";
    this.start = null;
    this.said = "";
    /** @type {number[] | null} */ this.ghost = null;
    this.show();
  }
  /** Begin on a joint. */
  from(joint) {
    this.parent = joint.name;
    this.start = joint.place;
    this.show();
  }

  show() {
    const line = [...(this.start ? [this.start] : []), ...this.places];
    const next = line.length ? [line.at(-1), this.ghost] : [this.ghost];
    this.wish({ line, dots: true }, ...(this.ghost ? [{ line: next, dashed: true, dots: true }] : []));
    this.changed();
  }

  async land(spot) {
    const [origin, way] = spot.ray,
      after = this.places.at(-1) ?? this.start ?? null,
      tolerance = Math.min(NEAR * spot.metre, FARTHEST);
    try {
      return await call("POST", `/api/c/${this.b.number}/landing`, { origin, way, snap: this.snap, tolerance, after });
    } catch (error) {
      say(error);
      return null;
    }
  }

  hover = asker(
    (spot) => this.land(spot),
    (found) => {
      if (this.b.tool !== this) return;
      this.ghost = found.place;
      this.show();
    },
  );

  /** Clicks come one after the other: each needs the place of the last one. */
  click(spot) {
    this.clicks = (this.clicks ?? Promise.resolve()).then(() => this.put(spot));
    return this.clicks;
  }

  async put(spot) {
    const found = await this.land(spot);
    if (!found) return;
    if (found.on === "joint" && !this.places.length) {
      this.parent = found.name;
      this.start = found.place;
    } else if (found.on === "joint")
      toast(`${plainName(found.name)} is a joint already: a chain begins on a joint, it doesn't end on one.`);
    else this.places.push(found.place);
    const onPart = found.on === "part" ? `: ${found.name}` : "";
    this.said = found.on === "joint" ? `from ${plainName(found.name)}` : ON[found.on] + onPart;
    this.ghost = null;
    this.show();
  }

  async finish() {
    if (this.places.length + (this.parent ? 1 : 0) < 2) {
      toast("A chain has at least two joints. Click once more.");
      return;
    }
    const { places, parent, end } = this;
    const params = { places, parent, name: this.word || "chain", both_sides: this.b.symmetry, end };
    if (await this.b.step("joints.draw", params)) this.reset();
  }

  back() {
    if (this.places.length) this.places.pop();
    else {
      this.parent = "";
      this.start = null;
    }
    this.show();
  }

  keyed(e) {
    if (e.key === "Enter") this.finish();
    else if (e.key === "Backspace") this.back();
    else return false;
    return true;
  }

  panel() {
    const word = (text) => {
      this.word = text.trim();
    };
    const snap = (k) => {
      this.snap = k;
      this.changed();
    };
    return [
      pairs(
        [
          "name",
          textField("Chain name", this.word, word, { onchange: undefined, oninput: (e) => word(e.target.value) }),
        ],
        ["lands", select("Where joints land", SNAPS, this.snap, snap)],
        ["from", this.parent ? plainName(this.parent) : "a root of its own"],
        ["joints", h("span", { class: "fig" }, String(this.places.length))],
      ),
      choices({ end: "last is an end joint", no: "all hold skin" }, this.end ? "end" : "no", (k) => {
        this.end = k === "end";
        this.changed();
      }),
      this.said ? h("p", { class: "soft" }, `The last one lies ${this.said}.`) : null,
      acts(
        button("Finish (Enter)", () => this.finish(), "mend small"),
        button("Take back", () => this.back(), "small"),
      ),
    ];
  }
}

export const DRAW = new Draw({
  name: "draw",
  title: "Draw a chain",
  station: "joints",
  key: "d",
  hint: "Click in any drawing; begin on a joint to branch from it. Enter finishes, Backspace takes the last back.",
});
enterTool(DRAW);
