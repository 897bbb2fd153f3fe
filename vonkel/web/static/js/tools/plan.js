// Plans: choose one, let it find its landmarks, put right what is off, lay the joints; plans of one's own.
import { call, h, say, toast } from "../dom.js";
import { button, fileButton, pairs } from "../stations/common.js";

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

class Plans {
  name = "plans";
  title = "Plans";
  station = "joints";
  hint = "";
  plan = "";
  options = {};
  passive = true; // clicks still reach joints and the drawings

  async enter(b) {
    this.b = b;
    try {
      this.known = await call("GET", "/api/plans");
    } catch (error) {
      say(error);
    }
    this.plan ||= b.state.plan || "biped";
    b.sheets();
  }

  leave() {
    this.clear();
  }
  clear() {
    this.b.plate.landmarks = [];
    this.b.plate.draw();
  }

  async find() {
    try {
      const { job } = await call("POST", `/api/c/${this.b.number}/landmarks`, {
        plan: this.plan,
        options: this.options,
      });
      const done = await this.b.watch(job);
      this.b.plate.landmarks = Object.entries(done.result).map(([name, m]) => ({
        name,
        label: m.label,
        place: m.place,
        moved: false,
      }));
      this.b.plate.draw();
      this.b.sheets();
    } catch (error) {
      say(error);
    }
  }

  /** A landmark dragged by hand: it is moved in the drawing's plane only. */
  drag(name, place) {
    const m = this.b.plate.landmarks.find((x) => x.name === name);
    const middle = !name.endsWith("_L") && !name.endsWith("_R");
    m.place = middle ? [0, place[1], place[2]] : place;
    m.moved = true;
    this.b.plate.draw();
  }

  async lay() {
    const landmarks = Object.fromEntries(this.b.plate.landmarks.filter((m) => m.moved).map((m) => [m.name, m.place]));
    if (await this.b.step("joints.lay_plan", { plan: this.plan, options: this.options, landmarks })) {
      this.clear();
      this.b.useTool(null);
    }
  }

  async layOwn(id) {
    try {
      const { job } = await call("POST", `/api/c/${this.b.number}/plans/${id}?step=${this.b.position().step}`);
      await this.b.watch(job);
      await this.b.refresh();
      toast(this.b.state.last.sentence);
      this.b.useTool(null);
    } catch (error) {
      await this.b.failed(error);
    }
  }

  async again() {
    this.known = await call("GET", "/api/plans");
    this.b.sheets();
  }

  field(name, schema) {
    const set = (value) => {
      this.options = { ...this.options, [name]: value };
      this.clear();
      this.b.sheets();
    };
    const now = this.options[name] ?? schema.default;
    if (schema.enum)
      return h(
        "select",
        { "aria-label": WORDS[name] ?? name, onchange: (e) => set(e.target.value) },
        schema.enum.map((v) => h("option", { value: v, selected: v === now }, v)),
      );
    const counted = schema.minimum === -1; // the plan may count for itself: an empty field says so
    return h("input", {
      type: "number",
      value: counted && now === -1 ? "" : String(now),
      min: counted ? 0 : schema.minimum,
      max: schema.maximum,
      step: 1,
      style: counted ? "width:104px" : "width:70px",
      placeholder: counted ? "as found" : "",
      title: counted ? "Empty: as many as the mesh shows" : (schema.description ?? ""),
      "aria-label": WORDS[name] ?? name,
      onchange: (e) => set(counted && e.target.value === "" ? -1 : Number(e.target.value)),
    });
  }

  panel(b) {
    if (!this.known) return [h("p", { class: "soft" }, "Looking …")];
    const plan = this.known.plans.find((p) => p.name === this.plan),
      marks = b.plate.landmarks;
    const found = marks.length > 0;
    return [
      h("div", { class: "plans" }, ...this.known.plans.map((p) => this.choice(b, p))),
      h("p", { class: "soft" }, plan.about),
      pairs(...Object.entries(plan.options).map(([k, s]) => [WORDS[k] ?? k, this.field(k, s)])),
      found ? h("p", {}, "Drag a landmark that is off, in any drawing; the joints between follow.") : null,
      h(
        "div",
        { class: "acts" },
        button(found ? "Find again" : "Find landmarks", () => this.find(), found ? "small" : "mend small"),
        button("Lay the joints", () => this.lay(), found ? "mend small" : "small"),
      ),
      h("h3", {}, "Your own"),
      ...this.ownPlans(),
      ...this.keeping(b),
    ];
  }

  choice(b, plan) {
    const choose = () => {
      this.plan = plan.name;
      this.options = {};
      this.clear();
      b.sheets();
    };
    return h("button", { class: "small", "aria-pressed": String(plan.name === this.plan), onclick: choose }, plan.name);
  }

  ownPlans() {
    if (!this.known.own.length)
      return [h("p", { class: "soft" }, "Skeletons that you save here can be laid into other bodies.")];
    const forget = async (p) => {
      if (!confirm(`Forget the plan ${p.name}?`)) return;
      await call("DELETE", `/api/plans/${p.id}`).catch(say);
      await this.again();
    };
    const row = (p) =>
      h(
        "div",
        { class: "row" },
        h("span", { class: "grow" }, p.name),
        button("Lay", () => this.layOwn(p.id), "small"),
        h("a", { href: `/api/plans/${p.id}.json`, download: "", title: "Save the plan as a file" }, "file"),
        button("×", () => forget(p), "small quiet"),
      );
    return [h("ul", { class: "rows" }, ...this.known.own.map((p) => h("li", {}, row(p))))];
  }

  /** Where the skeleton is kept as a plan, or one is taken from a file. */
  keeping(b) {
    const take = (file) => {
      const data = new FormData();
      data.set("file", file);
      return call("POST", "/api/plans", data).then(() => this.again(), say);
    };
    const fromFile = fileButton("From a file", ".json", take);
    if (!b.state.joints.length) return [h("div", { class: "acts" }, ...fromFile)];
    const name = h("input", {
      type: "text",
      placeholder: "name this plan",
      maxlength: 80,
      style: "width:150px",
      "aria-label": "Plan name",
      "data-keep": "plan-name",
    });
    const save = async () => {
      if (!name.value.trim()) return toast("Name the plan first.");
      try {
        await call("POST", `/api/c/${b.number}/plan`, { name: name.value.trim() });
        toast("The skeleton is kept as a plan.");
        name.value = "";
        await this.again();
      } catch (error) {
        say(error);
      }
    };
    return [name, h("div", { class: "acts" }, button("Save the skeleton", save, "small"), ...fromFile)];
  }
}

export const PLANS = new Plans();
