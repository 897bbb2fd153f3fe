// Painting a region: which points belong to it, and by how much.
import { enterTool } from "../app/tools.js";
import { showShapeMap } from "../stations/shapelist.js";
import { choices, pairs, select, textField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { atRest } from "./ring.js";
import { RingTool } from "./strokes.js";

const WAYS = { add: "Add", take: "Take away" };
const REACH = { skin: "along the skin", ball: "straight through" };

class Mask extends RingTool {
  way = "add";
  strength = 1;
  fading = 0.5;
  through = false;

  enter(b) {
    super.enter(b);
    b.ui.shapeMap = "region";
    this.showRegion();
  }
  leave() {
    this.b.ui.shapeMap = "";
    super.leave();
    showShapeMap(this.b);
  }
  /** The region's amounts on the mesh; nothing yet where it is still to be made. */
  showRegion() {
    const { b } = this;
    if (b.state.regions.some((r) => r.name === b.ui.region)) showShapeMap(b);
    else b.plate.setValues(new Float32Array(b.plate.rest.length / 3));
    this.changed();
  }

  params() {
    return {
      region: this.b.ui.region,
      way: this.way,
      radius: this.size,
      strength: this.strength,
      fading: this.fading,
      through: this.through,
      both_sides: this.b.symmetry,
    };
  }
  stroke(spot, done) {
    const { b } = this;
    if (!this.now && !done) {
      if (!b.ui.region) toast("Name the region first.");
      const params = this.params();
      this.now = b.ui.region ? Object.assign(this.strokes.begin("mask", params), { params }) : { rows: [] };
    }
    const { now } = this;
    if (!now) return;
    if (spot?.hit && now.params) {
      this.strokes.add(now, atRest(b.plate.drawn, spot));
      this.spot = spot;
    }
    this.show();
    if (!done) return;
    this.now = null;
    if (now.rows.length) this.strokes.end(now, "regions.paint", { ...now.params, samples: now.rows });
  }

  panel(b) {
    const known = b.state.regions.map((r) => [r.name, r.name]);
    const choose = (name) => {
      b.ui.region = name;
      this.showRegion();
    };
    return [
      pairs(
        known.length ? ["region", select("region", [["", "a new one"], ...known], b.ui.region, choose)] : null,
        b.state.regions.some((r) => r.name === b.ui.region)
          ? null
          : ["its name", textField("name of the region", b.ui.region, choose, { placeholder: "mouth, brows …" })],
      ),
      choices(WAYS, this.way, this.set("way")),
      pairs(
        this.sizeField(),
        this.strengthField(),
        ["fades over", this.shareField("fading", "fades over")],
        ["reach", select("reach", REACH, this.through ? "ball" : "skin", (k) => this.set("through")(k === "ball"))],
      ),
      h("div", { class: "acts" }, this.bothSides()),
    ];
  }
}

enterTool(
  new Mask({
    name: "mask",
    title: "Paint a region",
    label: "Region",
    station: "shapes",
    key: "z",
    hint: "Stroke what belongs to it: shapes of a region move nothing else, brushes stay within.",
  }),
);
