// Plans: choose one, let it find its landmarks, put right what is off, lay the joints; plans of one's own.
import { enterTool, PlateTool } from "../app/tools.js";
import { call } from "../net/api.js";
import {
  acts,
  button,
  chosenButton,
  fileButton,
  form,
  numberField,
  own,
  pairs,
  select,
  submit,
} from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";

const WORDS = {
  spine: "spine links",
  neck: "neck joints",
  tail: "tail joints",
  digits: "digits",
  toes: "toes",
  legs: "legs",
  fingers: "wing fingers",
  links: "joints a finger",
  hung: "hung on each bone",
  pairs: "pairs of legs",
  abdomen: "abdomen joints",
  feeler: "feeler joints",
  bends: "bends a leg",
  fin: "fin joints",
  joints: "joints",
  root: "root",
  jaw: "jaw",
};

class Plans extends PlateTool {
  plan = "";
  options = {};
  /** @type {any} */ known = null;
  /** @type {any} */ proposed = null; // which plan the body asks for
  chosen = false; // by hand
  following = false;
  /** @type {any} */ found = null; // words, turn and plane of what was found
  busy = false;

  async enter(b) {
    super.enter(b);
    await this.again().catch(say);
    this.plan ||= b.state.plan || "biped";
    this.changed();
    await this.propose().catch(say);
  }
  leave() {
    this.clear();
  }
  clear() {
    this.found = null;
    this.b.plate.landmarks = [];
    this.b.plate.seen = [];
    this.b.plate.draw();
    this.changed();
  }

  /** Ask which plan the body wants, and take it unless the character has one. */
  async propose() {
    if (!this.b.state.parts.length) return;
    const { job } = await call("POST", `/api/c/${this.b.number}/proposal`);
    const { result } = await this.b.watchJob(job);
    const untouched = !this.b.plate.landmarks.length && !this.b.state.plan && !this.chosen;
    this.proposed = result;
    if (untouched && result) this.plan = result.plan;
    this.changed();
  }
  async again() {
    this.known = await call("GET", "/api/plans");
    this.changed();
  }

  anew() {
    this.b.plate.landmarks = [];
    return this.find();
  }

  /** Find the landmarks by the shape; those that were put right by hand stay and tell the limbs apart. */
  async find(given = {}) {
    this.busy = true;
    this.changed();
    try {
      const asked = { plan: this.plan, options: this.options, given };
      const { job } = await call("POST", `/api/c/${this.b.number}/landmarks`, asked);
      const { result } = await this.b.watchJob(job);
      if (this.b.tool !== this) return; // laid or left meanwhile
      const now = this.moved(); // a hand may have gone on meanwhile
      const mark = ([name, m]) => ({ name, ...m, moved: name in now, place: now[name] ?? m.place });
      this.b.plate.landmarks = Object.entries(result.marks).map(mark);
      this.b.plate.seen = result.seen;
      this.found = result;
      this.b.plate.draw();
    } catch (error) {
      say(error);
    }
    this.busy = false;
    this.changed();
  }

  moved() {
    const moved = this.b.plate.landmarks.filter((m) => m.moved);
    return Object.fromEntries(moved.map((m) => [m.name, m.place]));
  }

  /** A landmark dragged by hand: it is moved in the drawing's plane only. */
  drag(name, place, done) {
    const m = this.b.plate.landmarks.find((x) => x.name === name);
    const middle = !name.endsWith("_L") && !name.endsWith("_R") && this.found?.plane;
    m.place = middle ? [0, place[1], place[2]] : place;
    m.moved = true;
    this.b.plate.draw();
    if (done) this.follow();
  }

  /** What wasn't put right by hand follows, once what is under way is in. */
  async follow() {
    if (this.following) return; // its last round takes this one along
    this.following = true;
    let before = "";
    while (this.b.tool === this && before !== JSON.stringify(this.moved())) {
      before = JSON.stringify(this.moved());
      await this.find(this.moved());
    }
    this.following = false;
  }

  async lay() {
    const landmarks = this.moved();
    if (await this.b.step("joints.lay_plan", { plan: this.plan, options: this.options, landmarks }))
      this.b.useTool(null);
  }

  async layOwn(id) {
    const { b } = this;
    try {
      const { job } = await call("POST", `/api/c/${b.number}/plans/${id}?step=${b.position().step}`);
      await b.watchJob(job);
      await b.refresh();
      toast(b.state.last.sentence);
      b.useTool(null);
    } catch (error) {
      await b.failed(error);
    }
  }

  field(name, schema) {
    const set = (value) => {
      this.options = { ...this.options, [name]: value };
      this.clear();
    };
    const now = this.options[name] ?? schema.default,
      label = WORDS[name] ?? name;
    if (schema.enum)
      return select(
        label,
        schema.enum.map((v) => [v, v]),
        now,
        set,
      );
    const counted = schema.minimum === -1; // the plan may count for itself: an empty field says so
    return numberField(label, counted && now === -1 ? "" : now, (v) => set(v ?? -1), {
      min: counted ? 0 : schema.minimum,
      max: schema.maximum,
      step: 1,
      empty: counted,
      placeholder: counted ? "as found" : "",
      title: counted ? "Empty: as many as the mesh shows" : (schema.description ?? ""),
    });
  }

  panel(b) {
    if (!this.known) return h("p", { class: "soft" }, "Looking …");
    const plan = this.known.plans.find((p) => p.name === this.plan);
    if (!plan) return null;
    const found = b.plate.landmarks.length > 0;
    return [
      this.proposed
        ? [h("p", { class: "proposed" }, this.proposed.words), this.standing(b)]
        : h("p", { class: "soft" }, "Looking at the body …"),
      h(
        "div",
        { class: "plans" },
        this.known.plans.map((p) => this.choice(p)),
      ),
      h("p", { class: "soft" }, plan.about),
      this.said(found),
      acts(
        button(found ? "Find again" : "Find landmarks", () => this.anew(), found ? "small" : "mend small"),
        button("Lay the joints", () => this.lay(), found ? "mend small" : "small"),
      ),
      pairs(...Object.entries(plan.options).map(([k, s]) => [WORDS[k] ?? k, this.field(k, s)])),
      h("h3", {}, "Your own"),
      this.ownPlans(),
      this.keeping(b),
    ];
  }

  /** A body that seems to lie is stood up by one click. */
  standing(b) {
    const { lying } = this.proposed;
    if (!lying || b.state.joints.length) return null;
    const stand = async () => {
      if (!(await b.step("model.stand", { up: lying.up }))) return;
      this.proposed = null;
      await this.propose().catch(say);
    };
    return acts(button(`Let ${lying.up.replace("-", "−").toUpperCase()} be up`, stand, "small mend"));
  }

  /** What is to be said of what was found: how it stands, which landmarks want a look, how to go on. */
  said(found) {
    if (this.busy) return h("p", { class: "soft" }, "Finding …");
    if (!found || !this.found) return null;
    const marks = this.b.plate.landmarks.filter((m) => !m.moved);
    const lost = marks.filter((m) => m.sure === "not found"),
      doubtful = marks.filter((m) => m.sure === "look here");
    const all = this.b.plate.landmarks.length;
    const list = (some) =>
      some.length > 3 && some.length >= 0.8 * all ? "nearly all of them." : some.map((m) => m.label).join(", ");
    const turn = () => this.b.step("model.stand", { turn: -this.found.turn }).then((done) => done && this.find(), say);
    return [
      ...this.found.words.map((w) => h("p", {}, w)),
      Math.abs(this.found.turn) > 8 ? acts(button("Turn it to face +Z", turn, "small")) : null,
      lost.length ? h("p", { class: "doubt" }, h("b", {}, "Not found: "), list(lost)) : null,
      doubtful.length ? h("p", { class: "doubt" }, h("b", {}, "Look here: "), list(doubtful)) : null,
      h(
        "p",
        { class: "soft" },
        lost.length || doubtful.length
          ? "Drag what is off, in any drawing; the rest follows."
          : "Every landmark is sure. Drag one that is off all the same; the rest follows.",
      ),
    ];
  }

  choice(plan) {
    const choose = () => {
      this.plan = plan.name;
      this.chosen = true;
      this.options = {};
      this.clear();
    };
    return chosenButton(plan.name, plan.name === this.plan, choose);
  }

  ownPlans() {
    if (!this.known.own.length)
      return h("p", { class: "soft" }, "Skeletons that you save here can be laid into other bodies.");
    const forget = async (p) => {
      if (!confirm(`Forget the plan ${p.name}?`)) return;
      await call("DELETE", `/api/plans/${p.id}`).catch(say);
      await this.again();
    };
    const row = (p) =>
      h(
        "li",
        { key: p.id },
        h(
          "div",
          { class: "row-line" },
          h("span", { class: "grow" }, p.name),
          button("Lay", () => this.layOwn(p.id), "small"),
          h("a", { href: `/api/plans/${p.id}.json`, download: "", title: "Save the plan as a file" }, "file"),
          button("×", () => forget(p), "small quiet", { "aria-label": `Forget ${p.name}` }),
        ),
      );
    return h("ul", { class: "rows" }, this.known.own.map(row));
  }

  /** Where the skeleton is kept as a plan, or one is taken from a file. */
  keeping(b) {
    const take = (file) => {
      const data = new FormData();
      data.set("file", file);
      return call("POST", "/api/plans", data).then(() => this.again(), say);
    };
    const fromFile = fileButton("From a file", ".json", take);
    if (!b.state.joints.length) return acts(fromFile);
    const save = async ({ name }) => {
      if (!name.trim()) {
        toast("Name the plan first.");
        return false;
      }
      try {
        await call("POST", `/api/c/${b.number}/plan`, { name: name.trim() });
        toast("The skeleton is kept as a plan.");
        await this.again();
      } catch (error) {
        say(error);
        return false;
      }
      return true;
    };
    const name = own.text("name", "Plan name", { placeholder: "name this plan", maxlength: 80 });
    return form(save, name, acts(submit("Save the skeleton"), fromFile));
  }
}

enterTool(
  new Plans({ name: "plans", title: "Plans", station: "joints", hint: "", passive: true }), // clicks still reach joints
);
