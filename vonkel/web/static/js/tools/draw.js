// Drawing chains of joints: every click lands inside the body; the chain shows in all drawings until it is finished.
import { call, h, plainName, say, toast } from "../dom.js";
import { button, choices, pairs } from "../stations/common.js";
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

class Draw {
  name = "draw";
  title = "Draw a chain";
  station = "joints";
  hint = "Click in any drawing; begin on a joint to branch from it. Enter finishes, Backspace takes the last back.";
  snap = "middle";
  word = "chain";
  end = true;

  enter(b) {
    this.b = b;
    this.reset();
  }
  leave() {
    this.b.plate.wishes = [];
  }
  reset() {
    this.places = [];
    this.parent = "";
    this.said = "";
    this.ghost = null;
    this.show();
  }

  show() {
    const line = [...(this.start ? [this.start] : []), ...this.places],
      plate = this.b.plate;
    plate.wishes = [
      { line, dots: true },
      ...(this.ghost
        ? [{ line: line.length ? [line.at(-1), this.ghost] : [this.ghost], dashed: true, dots: true }]
        : []),
    ];
    plate.draw();
  }

  async land(spot) {
    const [origin, way] = spot.ray,
      after = this.places.at(-1) ?? this.start ?? null;
    try {
      return await call("POST", `/api/c/${this.b.number}/landing`, {
        origin,
        way,
        snap: this.snap,
        tolerance: Math.min(9 * spot.metre, 50),
        after,
      });
    } catch (error) {
      say(error);
      return null;
    }
  }

  hover = asker(
    (spot) => this.land(spot),
    (found) => {
      if (this.b.tool === this) {
        this.ghost = found.place;
        this.show();
      }
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
    this.b.sheets();
  }

  async finish() {
    if (this.places.length + (this.parent ? 1 : 0) < 2) {
      toast("A chain has at least two joints. Click once more.");
      return;
    }
    const params = {
      places: this.places,
      parent: this.parent,
      name: this.word || "chain",
      both_sides: this.b.symmetry,
      end: this.end,
    };
    if (await this.b.step("joints.draw", params)) {
      this.start = null;
      this.reset();
      this.b.sheets();
    }
  }

  back() {
    if (this.places.length) this.places.pop();
    else {
      this.parent = "";
      this.start = null;
    }
    this.show();
    this.b.sheets();
  }

  key(e) {
    if (e.key === "Enter") this.finish();
    else if (e.key === "Backspace") this.back();
    else return false;
    return true;
  }

  panel(b) {
    return [
      pairs(
        [
          "name",
          h("input", {
            type: "text",
            value: this.word,
            maxlength: 60,
            style: "width:150px",
            "aria-label": "Chain name",
            "data-keep": "chain-name",
            onchange: (e) => {
              this.word = e.target.value.trim();
            },
          }),
        ],
        [
          "lands",
          h(
            "select",
            {
              "aria-label": "Where joints land",
              onchange: (e) => {
                this.snap = e.target.value;
              },
            },
            Object.entries(SNAPS).map(([k, t]) => h("option", { value: k, selected: k === this.snap }, t)),
          ),
        ],
        ["from", this.parent ? plainName(this.parent) : "a root of its own"],
        ["joints", h("span", { class: "fig" }, String(this.places.length))],
      ),
      choices({ end: "last is an end joint", no: "all hold skin" }, this.end ? "end" : "no", (k) => {
        this.end = k === "end";
        b.sheets();
      }),
      this.said ? h("p", { class: "soft" }, `The last one lies ${this.said}.`) : null,
      h(
        "div",
        { class: "acts" },
        button("Finish (Enter)", () => this.finish(), "mend small"),
        button("Take back", () => this.back(), "small"),
      ),
    ];
  }
}

export const DRAW = new Draw();
