// Putting on a kit: choose which, click a joint, correct what each role takes, put it on.
import { enterTool, PlateTool } from "../app/tools.js";
import { call } from "../net/api.js";
import { acts, button, choices, numberField, pairs, select, switchButton, textField } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say, toast } from "../widgets/toasts.js";
import { plainName } from "../words.js";

/** Kits that bring their own joints: a step of their own. */
const MADE = {
  twist: {
    step: "limbs.twist",
    fields: { count: ["joints", 3, 1, 8] },
    picks: { comes_from: { end: "from the bone's end", start: "from its beginning" } },
    roles: [["joint", "the joint where the bone begins"]],
  },
  muscle: {
    step: "limbs.muscle",
    fields: {
      weight: ["follows the second by", 0.5, 0, 1],
      bulge: ["bulge at 90°", 0.25, 0, 2],
      jiggle: ["jiggle, Hz", 0, 0, 30],
    },
    picks: {},
    roles: [
      ["first", "the first joint that it follows"],
      ["second", "the second"],
      ["flexes", "the joint whose bend makes it bulge"],
    ],
  },
};
const ORDER = "body head arm leg foot digits wing fin fan chain stance twist muscle turns single eyes whole".split(" ");
const ALWAYS_NAMED = ["chain", "turns", "single", "fin", "digits"],
  BARE = ["turns", "chain", "single"]; // kits that are named by their first joint, and those by nothing else

class KitTool extends PlateTool {
  kind = "arm";
  joints = {};
  role = "";
  options = {};
  first = "";

  enter(b) {
    super.enter(b);
    this.joints = {};
    this.options = {};
    this.before = b.plate.layers.joints;
    b.plate.layers = { ...b.plate.layers, joints: true };
    b.loadKitKinds().catch(say);
    if (b.plate.selected.joint) this.pick(b.plate.selected.joint);
  }
  leave() {
    const { plate } = this.b;
    plate.layers = { ...plate.layers, joints: this.before ?? false };
    super.leave();
  }

  kindOf() {
    return this.b.kitKinds?.kits.find((k) => k.kind === this.kind);
  }

  choose(kind) {
    Object.assign(this, { kind, options: {}, joints: {}, role: "" });
    if (this.first) this.suggest(this.first);
    this.changed();
  }

  async pick(name) {
    if (!this.role) return this.suggest(name);
    const most = this.kindOf()?.roles.find((r) => r.role === this.role)?.most ?? 1,
      now = this.joints[this.role] ?? [];
    const joints = now.includes(name) ? now.filter((n) => n !== name) : most === 1 ? [name] : [...now, name];
    this.joints = { ...this.joints, [this.role]: joints };
    return this.changed();
  }

  async suggest(name) {
    this.first = name;
    const made = MADE[this.kind];
    if (made) {
      const roles = made.roles.map(([r]) => r);
      this.joints = { [roles[0]]: [name] };
      this.role = roles[1] ?? "";
    } else
      try {
        const asked = { kind: this.kind, joint: name };
        this.joints = (await call("POST", `/api/c/${this.b.number}/suggest`, asked)).joints;
      } catch (error) {
        say(error);
      }
    this.changed();
  }

  async put() {
    const { b, joints, options, kind } = this,
      made = MADE[kind];
    if (!made && !Object.keys(joints).length && kind !== "whole") {
      toast("Click a joint first.");
      return;
    }
    const firsts = Object.entries(joints).flatMap(([r, [n]]) => (n ? [[r, n]] : []));
    const params = made
      ? { ...Object.fromEntries(firsts), ...options, both_sides: b.symmetry }
      : { kind, name: this.suffix(), joints, options, both_sides: b.symmetry };
    if (await b.step(made ? made.step : "limbs.add_kit", params)) {
      Object.assign(this, { joints: {}, role: "", first: "" });
      this.changed();
    }
  }

  /** The kit's kind; a second one of it is named after its first joint. */
  suffix() {
    const first = Object.values(this.joints).flat()[0] ?? "",
      taken = this.b.state.kits.some((k) => k.kind === this.kind);
    if (!taken && !ALWAYS_NAMED.includes(this.kind)) return "";
    return `${BARE.includes(this.kind) ? "" : `${this.kind} `}${plainName(first)}`;
  }

  rows() {
    const made = MADE[this.kind];
    if (made) return made.roles;
    return (this.kindOf()?.roles ?? [])
      .filter((r) => this.joints[r.role]?.length || r.least || r.role === this.role || !/\d$/.test(r.role))
      .map((r) => [r.role, `${r.about}${r.least ? "" : "; may be left out"}`]);
  }

  option(key, schema) {
    const now = this.options[key] ?? schema.default,
      set = (v) => {
        this.options = { ...this.options, [key]: v };
        this.changed();
      };
    const more = { title: schema.description ?? "" },
      words = key.replaceAll("_", " ");
    if (schema.enum)
      return [
        words,
        select(
          key,
          schema.enum.map((v) => [v, v]),
          now,
          set,
        ),
      ];
    if (schema.type === "string") return [words, textField(key, String(now), set, more)];
    return [words, numberField(key, now, set, { step: schema.type === "integer" ? 1 : "any", ...more })];
  }

  roleRow([role, words]) {
    const { b } = this;
    const sideOf = (n) => b.state.joints.find((j) => j.name === n)?.side ?? "C";
    const choose = () => {
      this.role = this.role === role ? "" : role;
      this.changed();
    };
    const names = (this.joints[role] ?? []).flatMap((n, i) => [i ? ", " : "", tag(sideOf(n)), ` ${plainName(n)}`]);
    return h(
      "li",
      { key: role },
      h(
        "button",
        {
          type: "button",
          "aria-selected": String(role === this.role),
          "data-role": role,
          title: words,
          onclick: choose,
        },
        h("span", { class: "soft" }, role),
        h("span", { class: "grow" }, names),
      ),
    );
  }

  /** What a kit that brings its own joints is asked. */
  asked(made) {
    const set = (k, v) => {
      this.options = { ...this.options, [k]: v };
      this.changed();
    };
    return [
      pairs(
        ...Object.entries(made.fields).map(([k, [label, at, min, max]]) => [
          label,
          numberField(label, this.options[k] ?? at, (v) => set(k, v), { min, max, step: "any" }),
        ]),
      ),
      Object.entries(made.picks).map(([k, words]) =>
        choices(words, this.options[k] ?? Object.keys(words)[0], (v) => set(k, v)),
      ),
    ];
  }

  panel(b) {
    const kinds = (b.kitKinds?.kits ?? []).map((k) => k.kind).sort((x, y) => ORDER.indexOf(x) - ORDER.indexOf(y)),
      made = MADE[this.kind];
    const flip = () => {
      b.symmetry = !b.symmetry;
    };
    return [
      choices(Object.fromEntries(kinds.map((k) => [k, k])), this.kind, (k) => this.choose(k)),
      h("p", { class: "soft" }, this.kindOf()?.about ?? ""),
      h(
        "ul",
        { class: "rows roles" },
        this.rows().map((row) => this.roleRow(row)),
      ),
      this.role
        ? h("p", { class: "soft" }, `Click joints to choose the ${this.role}; a second click takes one away.`)
        : null,
      made
        ? this.asked(made)
        : pairs(...Object.entries(this.kindOf()?.options ?? {}).map(([k, s]) => this.option(k, s))),
      this.kind === "arm" || this.kind === "leg" ? this.fromEnd() : null,
      acts(
        button("Put it on", () => this.put(), "mend small"),
        switchButton("Both sides", b.symmetry, flip),
      ),
    ];
  }

  /** A limb of so many bones that ends in the clicked joint. */
  fromEnd() {
    const { b } = this;
    return stepForm(b, "limbs.from_end", {
      label: "bones up from the clicked joint",
      fields: { bones: "bones" },
      values: { bones: 2 },
      fixed: () => ({ end: this.first, kind: this.kind, both_sides: b.symmetry }),
      ready: () => {
        if (!this.first) toast("Click the end joint first.");
        return !!this.first;
      },
      done: () => {
        Object.assign(this, { joints: {}, first: "" });
        this.changed();
      },
    });
  }

  keyed(e) {
    if (e.key !== "Enter") return false;
    this.put();
    return true;
  }
}

enterTool(
  new KitTool({
    name: "kit",
    title: "Put on a kit",
    label: "Kit",
    station: "limbs",
    key: "k",
    passive: true,
    hint: "Choose a kit, then click a joint on the plate. Roles fill in from it; click a role to correct it.",
  }),
);
