// Points chosen on the skin: by click, under a ring, and what goes on from them; then what is done with them.
import { enterTool, PlateTool } from "../app/tools.js";
import { call } from "../net/api.js";
import { loadRows } from "../stations/weights.js";
import { acts, button, choices, numberField, pairs } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say, toast } from "../widgets/toasts.js";
import { fullName, spaced } from "../words.js";
import { mapOf } from "../stations/shapelist.js";
import { ring } from "./ring.js";

const WAYS = { add: "Choose", take: "Let go" };
const FROM = {
  grow: "Grow",
  shrink: "Shrink",
  invert: "The others",
  loop: "Loop",
  island: "Piece",
  part: "Part",
  limb: "Region",
};

const bindAs = (skin) => ({ influences: skin?.influences ?? 4, method: skin?.method ?? "dual" });

class Points extends PlateTool {
  kind = "add";
  size = 0;
  low = 0.05;
  high = 1;
  weight = 1;
  /** @type {any} */ spot = null;
  /** @type {number[][]} */ ends = []; // of a run: two places
  run = false; // clicks put the ends of a run

  enter(b) {
    super.enter(b);
    this.size ||= 0.02 * b.state.height;
    b.plate.layers = { ...b.plate.layers, controls: false };
    this.mark();
  }
  leave() {
    this.b.plate.marked = [];
    this.b.plate.layers = { ...this.b.plate.layers, controls: true };
    super.leave();
  }
  get chosen() {
    return this.b.ui.chosenPoints;
  }
  choose(points) {
    this.b.ui.chosenPoints = [...new Set(points)].sort((x, y) => x - y);
    this.mark();
    loadRows(this.b);
  }
  mark() {
    this.b.plate.marked = this.chosen;
    this.b.plate.draw();
    this.changed();
  }
  meshChanged(same) {
    if (same) return;
    this.choose([]);
  }

  hover(spot) {
    this.spot = spot.hit ? spot : null;
    const { b } = this;
    /** @type {any[]} */
    const lines = this.ends.length ? [{ line: this.ends, dots: true }] : [];
    if (this.spot && !this.run) lines.push(...ring(b.plate.axes(spot.view), spot.place, this.size, 0));
    this.wish(...lines);
  }
  stroke(spot, done) {
    const { b } = this;
    if (done) {
      this.picked = null;
      loadRows(b);
      return;
    }
    if (!spot.hit) return;
    if (this.run) {
      if (this.picked) return;
      this.picked = true;
      this.ends = [...(this.ends.length > 1 ? [] : this.ends), spot.place];
      this.hover(spot);
      this.changed();
      return;
    }
    const { drawn } = b.plate,
      { out } = b.plate.axes(spot.view),
      normals = drawn.pointNormals ?? drawn.mesh.geometry.attributes.normal.array;
    const facing = (p) => normals[3 * p] * out[0] + normals[3 * p + 1] * out[1] + normals[3 * p + 2] * out[2] > 0;
    const near = [...drawn.near(spot.place, this.size).filter(facing), spot.hit.point];
    const set = new Set(this.chosen);
    for (const p of near)
      if (this.kind === "add") set.add(p);
      else set.delete(p);
    b.ui.chosenPoints = [...set].sort((x, y) => x - y);
    this.spot = spot;
    this.mark();
    this.hover(spot);
  }

  async from(how, more = {}) {
    const { b } = this;
    const points = how === "loop" ? b.ui.chosenPoints.slice(0, 2) : b.ui.chosenPoints;
    try {
      this.choose((await call("POST", `/api/c/${b.number}/skin/choose`, { how, points, ...more })).points);
    } catch (error) {
      say(error);
    }
  }
  /** Do a step with the chosen points. */
  do(step, params = {}) {
    if (!this.chosen.length) toast("Choose points first.");
    else this.b.step(step, { points: this.chosen, ...params });
  }

  panel(b) {
    const set = (field) => (v) => {
      this[field] = v;
      this.changed();
    };
    const joint = b.plate.selected.joint;
    return [
      choices(WAYS, this.kind, set("kind")),
      pairs([
        "ring, cm",
        numberField("ring, cm", (100 * this.size).toFixed(1), (v) => set("size")(Math.max(v, 0.01) / 100)),
      ]),
      h("p", {}, h("strong", {}, `${spaced(this.chosen.length)} points chosen`)),
      acts(Object.entries(FROM).map(([how, words]) => button(words, () => this.from(how), "small"))),
      acts(
        button("None", () => this.choose([]), "small quiet"),
        button("Where weights jump", () => this.from("jump", { low: 0.4 }), "small quiet"),
        joint
          ? button(
              `Held by ${fullName(joint)}`,
              () => this.from("weight", { joint, low: this.low, high: this.high }),
              "small quiet",
            )
          : null,
      ),
      this.found(),
      this.keeping(),
      joint ? this.forJoint(joint) : h("p", { class: "soft" }, "Choose a joint on the left to give them to it."),
      acts(
        button("As what lies round them", () => this.do("skin.from_neighbours"), "small"),
        button("Nearest bone", () => this.do("skin.nearest"), "small"),
        button("Even out", () => this.do("skin.even", { share: 0.5, rounds: 4 }), "small"),
        button("Bind these anew", () => this.do("skin.bind", bindAs(b.state.skin)), "small", {
          title: "What others are held by stays",
        }),
      ),
    ];
  }

  /** What findings speak of. */
  found() {
    const list = this.b.state.findings.filter((f) => f.points.length && ["skin", "model"].includes(f.station));
    return list.length
      ? acts(list.map((f) => button(f.title, () => this.choose(f.points), "small quiet", { key: f.title })))
      : null;
  }

  /** Sets are regions of the character: kept with it, and brushes over shapes know them too. */
  keeping() {
    const { b } = this,
      known = new Set(b.state.regions.map((r) => r.name));
    let n = 1;
    while (known.has(`set ${n}`)) n += 1;
    const keep = () => {
      if (!this.chosen.length) toast("Choose points first.");
      else b.step("regions.set", { name: `set ${n}`, points: this.chosen }, { keepPose: true });
    };
    return acts(
      button("Keep as a set", keep, "small quiet"),
      b.state.regions.map((r) =>
        button(`${r.name} · ${r.points}`, () => this.fromRegion(r.name), "small", { key: r.name }),
      ),
    );
  }
  async fromRegion(name) {
    try {
      const amounts = await mapOf(this.b, "region", name);
      this.choose([...amounts.keys()].filter((i) => amounts[i] >= 0.5));
    } catch (error) {
      say(error);
    }
  }

  forJoint(joint) {
    const { b } = this,
      fill = () => this.do("skin.hold", { joint, weight: this.weight });
    const go = () => {
      const [start, end] = this.ends.map((p) => this.atRest(p));
      this.do("skin.gradient", { joint, start, end, low: 0, high: 1 });
    };
    const turn = () => {
      this.run = !this.run;
      this.ends = [];
      this.hover(this.spot ?? { hit: null });
      this.changed();
    };
    return [
      pairs([
        `weight of ${fullName(joint)}`,
        numberField(
          "weight",
          this.weight,
          (v) => {
            this.weight = Math.min(Math.max(v, 0), 1);
            this.changed();
          },
          { min: 0, max: 1, step: 0.05 },
        ),
      ]),
      acts(
        button("Give it to them", fill, "small mend"),
        button("Times that", () => this.do("skin.scale", { factors: { [joint]: this.weight } }), "small", {
          title: "Scale what it holds of them",
        }),
        button(this.run ? "No run" : "Run between two places", turn, "small"),
        this.run && this.ends.length === 2 ? button("Run from 0 to 1", go, "small mend") : null,
      ),
      this.run && this.ends.length < 2
        ? h("p", { class: "soft" }, `Click where its weight is ${this.ends.length ? "1" : "0"}.`)
        : null,
      stepForm(b, "skin.swap", {
        label: "Swap",
        fields: { b: `swap ${fullName(joint)} with` },
        fixed: () => ({ points: this.chosen, a: joint }),
      }),
    ];
  }
  /** Where a place on the posed mesh lies at rest: its nearest point's. */
  atRest(place) {
    const { drawn } = this.b.plate;
    let best = Infinity,
      found = 0;
    for (let i = 0; i < drawn.points.length / 3; i++) {
      const d =
        (drawn.points[3 * i] - place[0]) ** 2 +
        (drawn.points[3 * i + 1] - place[1]) ** 2 +
        (drawn.points[3 * i + 2] - place[2]) ** 2;
      if (d < best) {
        best = d;
        found = i;
      }
    }
    return [0, 1, 2].map((k) => drawn.rest[3 * found + k]);
  }
}

enterTool(
  new Points({
    name: "choose",
    title: "Points",
    station: "skin",
    key: "p",
    hint: "Click or stroke the skin to choose points; the table below shows their weights.",
  }),
);
