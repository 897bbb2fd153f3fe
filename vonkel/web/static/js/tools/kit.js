// Putting on a kit: choose which, click a joint, correct what each role takes, put it on.
import { call, h, plainName, say, tag, toast } from "../dom.js";
import { button, choices, pairs, switchButton } from "../stations/common.js";

const MADE = {
  // kits that bring their own joints: a step of their own
  twist: {
    step: "limbs.twist",
    fields: { count: ["joints", 3, 1, 8] },
    picks: { comes_from: { end: "from the bone's end", start: "from its beginning" } },
    role: "joint",
  },
  muscle: {
    step: "limbs.muscle",
    fields: {
      weight: ["follows the second by", 0.5, 0, 1],
      bulge: ["bulge at 90°", 0.25, 0, 2],
      jiggle: ["jiggle, Hz", 0, 0, 30],
    },
    picks: {},
    role: "first",
  },
};
const ORDER = [
  "body",
  "head",
  "arm",
  "leg",
  "foot",
  "digits",
  "wing",
  "fin",
  "fan",
  "chain",
  "stance",
  "twist",
  "muscle",
  "turns",
  "single",
  "eyes",
  "whole",
];

class KitTool {
  name = "kit";
  title = "Put on a kit";
  station = "limbs";
  passive = true;
  kind = "arm";
  joints = {};
  role = "";
  options = {};

  get hint() {
    return "Choose a kit, then click a joint on the plate. Roles fill in from it; click a role to correct it.";
  }

  enter(b) {
    this.b = b;
    this.joints = {};
    this.options = {};
    this.before = b.plate.layers.joints;
    b.plate.layers.joints = true;
    b.loadKitKinds()
      .then(() => b.sheets())
      .catch(say);
    if (b.plate.selected.joint) this.pick(b.plate.selected.joint);
  }
  leave(b) {
    b.plate.layers.joints = this.before ?? false;
    b.plate.wishes = [];
  }

  kindOf() {
    return this.b.kitKinds?.kits.find((k) => k.kind === this.kind);
  }

  choose(kind) {
    this.kind = kind;
    this.options = {};
    this.joints = {};
    this.role = "";
    if (this.first) this.suggest(this.first);
    this.b.sheets();
  }

  async pick(name) {
    if (this.role) {
      const role = this.kindOf()?.roles.find((r) => r.role === this.role),
        now = this.joints[this.role] ?? [];
      this.joints[this.role] = now.includes(name)
        ? now.filter((n) => n !== name)
        : (role?.most ?? 1) === 1
          ? [name]
          : [...now, name];
      this.b.sheets();
    } else await this.suggest(name);
  }

  async suggest(name) {
    this.first = name;
    if (this.kind === "twist") {
      this.joints = { joint: [name] };
      this.b.sheets();
      return;
    }
    if (this.kind === "muscle") {
      this.joints = { first: [name] };
      this.role = "second";
      this.b.sheets();
      return;
    }
    try {
      this.joints = (await call("POST", `/api/c/${this.b.number}/suggest`, { kind: this.kind, joint: name })).joints;
    } catch (error) {
      say(error);
    }
    this.b.sheets();
  }

  async put() {
    const b = this.b,
      made = MADE[this.kind];
    const params = made
      ? {
          ...Object.fromEntries(
            Object.entries(this.joints)
              .map(([r, n]) => [r, n[0]])
              .filter(([, n]) => n),
          ),
          ...this.options,
          both_sides: b.symmetry,
        }
      : { kind: this.kind, name: this.suffix(), joints: this.joints, options: this.options, both_sides: b.symmetry };
    if (!made && !Object.keys(this.joints).length && this.kind !== "whole") {
      toast("Click a joint first.");
      return;
    }
    if (await b.step(made ? made.step : "limbs.add_kit", params)) {
      this.joints = {};
      this.role = "";
      this.first = "";
      b.sheets();
    }
  }

  /** The kit's kind; a second one of it is named after its first joint. */
  suffix() {
    const first = Object.values(this.joints).flat()[0] ?? "",
      taken = this.b.state.kits.some((k) => k.kind === this.kind);
    return taken || ["chain", "turns", "single", "fin", "digits"].includes(this.kind)
      ? `${["turns", "chain", "single"].includes(this.kind) ? "" : `${this.kind} `}${plainName(first)}`
      : "";
  }

  rows() {
    if (this.kind === "twist") return [["joint", "the joint where the bone begins"]];
    if (this.kind === "muscle")
      return [
        ["first", "the first joint that it follows"],
        ["second", "the second"],
        ["flexes", "the joint whose bend makes it bulge"],
      ];
    return (this.kindOf()?.roles ?? [])
      .filter((r) => this.joints[r.role]?.length || r.least || r.role === this.role || !/\d$/.test(r.role))
      .map((r) => [r.role, `${r.about}${r.least ? "" : "; may be left out"}`]);
  }

  option(key, schema) {
    const now = this.options[key] ?? schema.default,
      set = (v) => {
        this.options[key] = v;
      };
    if (schema.enum)
      return [
        key.replaceAll("_", " "),
        h(
          "select",
          { "aria-label": key, onchange: (e) => set(e.target.value) },
          schema.enum.map((v) => h("option", { value: v, selected: v === now }, v)),
        ),
      ];
    return [
      key.replaceAll("_", " "),
      h("input", {
        type: schema.type === "string" ? "text" : "number",
        step: schema.type === "integer" ? 1 : "any",
        value: String(now),
        title: schema.description ?? "",
        "aria-label": key,
        onchange: (e) => set(schema.type === "string" ? e.target.value : Number(e.target.value)),
      }),
    ];
  }

  panel(b) {
    const kinds = (b.kitKinds?.kits ?? []).map((k) => k.kind).sort((x, y) => ORDER.indexOf(x) - ORDER.indexOf(y)),
      about = this.kindOf()?.about ?? "",
      made = MADE[this.kind];
    return [
      choices(Object.fromEntries(kinds.map((k) => [k, k])), this.kind, (k) => this.choose(k)),
      h("p", { class: "soft" }, about),
      h(
        "ul",
        { class: "rows roles" },
        this.rows().map(([role, words]) =>
          h(
            "li",
            {},
            h(
              "button",
              {
                "aria-selected": String(role === this.role),
                "data-role": role,
                title: words,
                onclick: () => {
                  this.role = this.role === role ? "" : role;
                  b.sheets();
                },
              },
              h("span", { class: "soft" }, role),
              h(
                "span",
                { class: "grow" },
                ...(this.joints[role] ?? []).flatMap((n, i) => [
                  i ? ", " : "",
                  tag(b.state.joints.find((j) => j.name === n)?.side ?? "C"),
                  ` ${plainName(n)}`,
                ]),
              ),
            ),
          ),
        ),
      ),
      this.role
        ? h("p", { class: "soft" }, `Click joints to choose the ${this.role}; a second click takes one away.`)
        : null,
      made
        ? pairs(
            ...Object.entries(made.fields).map(([k, [label, at, low, high]]) => [
              label,
              h("input", {
                type: "number",
                value: String(this.options[k] ?? at),
                min: low,
                max: high,
                step: "any",
                "aria-label": label,
                onchange: (e) => {
                  this.options[k] = Number(e.target.value);
                },
              }),
            ]),
          )
        : pairs(...Object.entries(this.kindOf()?.options ?? {}).map(([k, s]) => this.option(k, s))),
      ...(made
        ? Object.entries(made.picks).map(([k, words]) =>
            choices(words, this.options[k] ?? Object.keys(words)[0], (v) => {
              this.options[k] = v;
              b.sheets();
            }),
          )
        : []),
      this.kind === "arm" || this.kind === "leg" ? this.fromEnd() : null,
      h(
        "div",
        { class: "acts" },
        button("Put it on", () => this.put(), "mend small"),
        switchButton("Both sides", b.symmetry, () => {
          b.symmetry = !b.symmetry;
          b.sheets();
        }),
      ),
    ];
  }

  /** A limb of so many bones that ends in the clicked joint. */
  fromEnd() {
    const b = this.b,
      bones = h("input", {
        type: "number",
        min: 2,
        max: 9,
        step: 1,
        value: String(this.bones ?? 2),
        style: "width:60px",
        "aria-label": "bones",
        onchange: (e) => {
          this.bones = Number(e.target.value);
        },
      });
    const make = async () => {
      if (!this.first) {
        toast("Click the end joint first.");
        return;
      }
      if (
        await b.step("limbs.from_end", {
          end: this.first,
          bones: this.bones ?? 2,
          kind: this.kind,
          both_sides: b.symmetry,
        })
      ) {
        this.joints = {};
        this.first = "";
        b.sheets();
      }
    };
    return h("div", { class: "acts" }, bones, button("bones up from the clicked joint", make, "small"));
  }

  key(e) {
    if (e.key === "Enter") {
      this.put();
      return true;
    }
    return false;
  }
}

/** The points that a kit turns about, as landmarks to be dragged: a foot's heel, tip, edges and ball. */
class KitPoints {
  name = "points";
  /** @type {any} */
  kit = null;
  title = "Points of a kit";
  station = "limbs";
  passive = true;
  hint = "Drag a point in any drawing: the foot rolls about them. Its partner goes along.";

  enter(b) {
    this.b = b;
    b.plate.setLarge("");
    this.show();
  }
  leave(b) {
    b.plate.landmarks = [];
    b.plate.setLarge("free");
  }
  show() {
    const kit = this.b.state.kits.find((k) => k.name === this.kit);
    this.b.plate.landmarks = Object.entries(kit?.places ?? {}).map(([name, place]) => ({
      name,
      label: name,
      place,
      moved: false,
    }));
    this.b.plate.draw();
  }

  async drag(name, place, done) {
    const mark = this.b.plate.landmarks.find((m) => m.name === name);
    if (!mark) return;
    mark.place = place;
    this.b.plate.draw();
    if (done) {
      await this.b.step("limbs.set_place", { kit: this.kit, point: name, place, both_sides: this.b.symmetry });
      this.show();
    }
  }

  panel() {
    const kit = this.b.state.kits.find((k) => k.name === this.kit);
    return [
      h("p", {}, plainName(this.kit ?? "")),
      pairs(
        ...Object.entries(kit?.places ?? {}).map(([n, p]) => [
          n,
          h("span", { class: "fig" }, p.map((v) => (100 * v).toFixed(1)).join(" · ") + " cm"),
        ]),
      ),
    ];
  }
}

export const KIT = new KitTool();
export const POINTS = new KitPoints();
