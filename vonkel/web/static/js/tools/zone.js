// Zones: a tapered capsule round a bone, its ends and rims dragged on the plate; who it holds follows live.
import { enterTool, PlateTool } from "../app/tools.js";
import { plus } from "../plate/space.js";
import { call } from "../net/api.js";
import { acts, button, numberField, pairs, slider, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { fullName } from "../words.js";
import { bothSides, Strokes } from "./strokes.js";

const ROUND = 32; // pieces of a rim
const unit = (v) => v.map((x) => x / (Math.hypot(...v) || 1));
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];

/** Two ways across a bone. */
function across(zone) {
  const way = unit(plus(zone.end, zone.start, -1)),
    side = Math.abs(way[1]) < 0.9 ? unit(cross(way, [0, 1, 0])) : unit(cross(way, [1, 0, 0]));
  return [side, cross(way, side)];
}

class Zones extends PlateTool {
  /** @type {any[]} */ zones = []; // the last is the one in the hand
  /** @type {any} */ now = null;
  /** @type {Strokes} */ strokes;

  enter(b) {
    super.enter(b);
    this.strokes ??= new Strokes(b);
    b.plate.layers = { ...b.plate.layers, controls: false };
    b.ui.skinMap = "joint";
    b.toRest(); // a zone is of the body at rest
    this.zones = [];
    this.pick(b.plate.selected.joint);
  }
  leave() {
    this.b.plate.landmarks = [];
    this.b.plate.layers = { ...this.b.plate.layers, controls: true };
    super.leave();
  }
  get zone() {
    return this.zones.at(-1);
  }

  /** A bone is chosen: its zone comes into the hand; those before stay as they are until they are put down. */
  async pick(joint) {
    if (!joint || !this.b.state.skin) return;
    if (!this.zones.some((z) => z.joint === joint)) {
      try {
        const zone = await call("GET", `/api/c/${this.b.number}/skin/zone/${encodeURIComponent(joint)}`);
        this.zones = [...(this.several ? this.zones : []), zone];
      } catch (error) {
        say(error);
        return;
      }
    } else this.zones = [...this.zones.filter((z) => z.joint !== joint), this.zones.find((z) => z.joint === joint)];
    this.show();
  }

  show() {
    const { b, zone } = this;
    if (!zone) {
      b.plate.landmarks = [];
      this.wish();
      this.changed();
      return;
    }
    const lines = [];
    for (const z of this.zones) {
      const [u, v] = across(z),
        rim = (at, r) =>
          Array.from({ length: ROUND + 1 }, (_, k) => {
            const t = (2 * Math.PI * k) / ROUND;
            return plus(plus(at, u, r * Math.cos(t)), v, r * Math.sin(t));
          });
      const ink = z !== zone;
      lines.push({ line: rim(z.start, z.start_radius), ink }, { line: rim(z.end, z.end_radius), ink });
      for (const [way, s] of [
        [u, 1],
        [u, -1],
        [v, 1],
        [v, -1],
      ])
        lines.push({
          line: [plus(z.start, way, s * z.start_radius), plus(z.end, way, s * z.end_radius)],
          ink,
          dashed: true,
        });
    }
    const [u] = across(zone);
    const mark = (name, label, place) => ({ name, label, place, moved: false });
    b.plate.landmarks = [
      mark("start", "start", zone.start),
      mark("end", "end", zone.end),
      mark("start_radius", "", plus(zone.start, u, zone.start_radius)),
      mark("end_radius", "", plus(zone.end, u, zone.end_radius)),
    ];
    this.wish(...lines);
    this.changed();
  }

  drag(name, place, done) {
    const { zone } = this;
    if (name.endsWith("radius")) {
      const from = name === "start_radius" ? zone.start : zone.end;
      zone[name] = Math.max(Math.hypot(...plus(place, from, -1)), 1e-4);
    } else zone[name] = place;
    this.show();
    this.said(done);
  }

  /** Tell the server; once the hand has let go, as a step. */
  said(done) {
    const { b } = this;
    this.now ??= this.strokes.begin("zone", {
      joints: this.zones.map((z) => z.joint),
      both_sides: b.symmetry,
      shows: b.plate.selected.joint,
    });
    const { now } = this;
    this.strokes.add(
      now,
      this.zones.flatMap((z) => [...z.start, ...z.end, z.start_radius, z.end_radius, z.soft]),
    );
    if (!done) return;
    this.now = null;
    this.strokes.end(now, "skin.zones", { zones: structuredClone(this.zones), both_sides: b.symmetry });
  }
  stroked({ blocks }) {
    if (blocks) this.b.plate.setPatch(blocks.at, blocks.places, blocks.values);
  }

  panel(b) {
    const { zone } = this;
    if (!zone) return h("p", { class: "empty" }, "Choose a bone, on the left: its zone stands round it on the plate.");
    const set = (field, by) => (v) => {
      zone[field] = Math.max(v / by, 1e-4);
      this.show();
      this.said(true);
    };
    const soft = slider("fades over", zone.soft, {
      low: 0,
      high: 1,
      step: 0.01,
      onchange: (e) => {
        zone.soft = Number(e.target.value);
        this.said(true);
      },
    });
    const several = () => {
      this.several = !this.several;
      if (!this.several) this.zones = [zone];
      this.show();
    };
    return [
      h(
        "p",
        {},
        h("strong", {}, fullName(zone.joint)),
        this.zones.length > 1 ? ` and ${this.zones.length - 1} more` : "",
      ),
      pairs(
        [
          "rim at its start, cm",
          numberField("rim at its start, cm", (100 * zone.start_radius).toFixed(1), set("start_radius", 100)),
        ],
        [
          "rim at its end, cm",
          numberField("rim at its end, cm", (100 * zone.end_radius).toFixed(1), set("end_radius", 100)),
        ],
        ["fades over", soft],
      ),
      acts(
        bothSides(b, () => this.changed()),
        switchButton("Several bones", !!this.several, several, "Bones chosen one after the other are sized together"),
        button("Let it hold this", () => this.said(true), "small mend"),
      ),
    ];
  }
}

enterTool(
  new Zones({
    name: "zone",
    title: "Zones",
    station: "skin",
    key: "z",
    hint: "Drag the ends and rims of the chosen bone's zone: it holds what lies inside.",
  }),
);
