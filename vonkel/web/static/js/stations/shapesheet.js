// The sheet of one shape: its strength, what it moves, what is made from it, what turns it up.
import { actionButton } from "../app/actions.js";
import {
  acts,
  button,
  form,
  numberField,
  own,
  pairs,
  select,
  submit,
  switchButton,
  textField,
} from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { fullName, length } from "../words.js";
import { folding } from "./common.js";
import { channelSlider } from "./posing.js";
import { alone, move, showShapeMap } from "./shapelist.js";

const READINGS = { bend: "its bend", twist: "its twist", toward: "where it points" };

/** The slider of a shape's own strength. */
export const strength = (b, s) =>
  channelSlider(b, "shapes", { name: s.name, kind: "value", rest: 0, low: s.low, high: s.high });

const comes = (s) =>
  s.of.length
    ? `Comes on as ${s.of.join(" and ")} do together.`
    : s.between
      ? `Comes on where ${s.between} is at ${s.at}, and adds to it.`
      : "";

export function shapeSheet(b, s) {
  const do_ = (step, params = {}) => b.step(step, { shape: s.name, ...params }, { keepPose: true });
  const close = () => {
    b.ui.shape = "";
  };
  const now = b.strengths[s.name] ?? 0;
  return [
    h("h2", { class: "titled" }, s.name, button("All", close, "small quiet", { title: "Show every shape's slider" })),
    comes(s) ? h("p", { class: "soft" }, comes(s)) : null,
    strength(b, s),
    s.led ? h("p", { class: "soft" }, "With what leads it: ", h("span", { class: "fig" }, now.toFixed(2))) : null,
    acts(
      button("Sculpt", () => b.useTool("sculpt"), "small mend"),
      button("Move the whole", () => b.useTool("place"), "small"),
      button("Alone", () => alone(b, s), "small", { title: "Every other shape off, this one wholly on" }),
      actionButton(b, "rest"),
    ),
    maps(b, s),
    h("p", { class: "soft" }, `moves ${s.points} points, ${length(s.far)} at most`),
    folding(b, "shape-about", "Name, heading, region", about(b, s, do_)),
    folding(b, "shape-made", "Made from it", makings(b, s, do_)),
    folding(b, "shape-comes", "What turns it up", turnings(b, s)),
    acts(
      button("Delete", () => do_("shapes.remove"), "small quiet"),
      h(
        "a",
        { class: "btn btn-plain btn-sm", href: `/api/c/${b.number}/shapes/one.obj?of=${encodeURIComponent(s.name)}` },
        "Save .obj",
      ),
      h("a", { class: "btn btn-plain btn-sm", href: `/api/c/${b.number}/shapes/all.zip` }, "Save all"),
    ),
  ];
}

function maps(b, s) {
  const show = (kind) => () => {
    b.ui.shapeMap = b.ui.shapeMap === kind ? "" : kind;
    showShapeMap(b);
  };
  return acts(
    switchButton("What it moves", b.ui.shapeMap === "moves", show("moves")),
    s.region ? switchButton("Trespass", b.ui.shapeMap === "trespass", show("trespass")) : null,
    s.region
      ? button("Cut to its region", () => b.step("shapes.cut", { shape: s.name }, { keepPose: true }), "small")
      : null,
  );
}

function about(b, s, do_) {
  const set = (field) => (v) => do_("shapes.set", { [field]: v });
  const rename = async (name) => {
    if (!name.trim() || name === s.name) return;
    b.ui.shape = name.trim();
    if (!(await do_("shapes.set", { name: name.trim() }))) b.ui.shape = s.name;
  };
  const regions = [["", "all of it"], ...b.state.regions.map((r) => [r.name, r.name])];
  return [
    pairs(
      ["name", textField("shape's name", s.name, rename)],
      ["heading", textField("heading", s.heading, set("heading"), { placeholder: "none" })],
      ["region", select("region of the shape", regions, s.region, set("region"))],
      ["from", numberField("least strength", s.low, set("low"), { min: -3, max: 0, step: 0.1 })],
      ["to", numberField("most strength", s.high, set("high"), { min: 0.1, max: 3, step: 0.1 })],
      s.between ? ["at", numberField("where it is on", s.at, set("at"), { step: 0.05 })] : null,
    ),
    acts(
      button("−1 to 2", () => do_("shapes.set", { low: -1, high: 2 }), "small", { title: "Let it go past both ends" }),
      switchButton("Even", s.even, () => set("even")(!s.even), "It claims to be the same on both sides"),
      button("Earlier", () => move(b, s, -1), "small quiet", { title: "Alt ↑ in the list" }),
      button("Later", () => move(b, s, 1), "small quiet", { title: "Alt ↓ in the list" }),
    ),
  ];
}

function makings(b, s, do_) {
  const others = b.state.shapes.filter((x) => x.name !== s.name && !x.between).map((x) => [x.name, x.name]);
  const on = Object.entries(b.strengths).filter(([, v]) => Math.abs(v) > 1e-3);
  return [
    acts(
      button("Copy", () => do_("shapes.copy"), "small"),
      button("Turn round", () => do_("shapes.scale", { by: -1 }), "small", { title: "It moves the other way" }),
      button("Mirror", () => do_("shapes.mirror"), "small"),
      button("As its left", () => do_("shapes.alike", { side: "left" }), "small", { title: "The same on both sides" }),
      button("As its right", () => do_("shapes.alike", { side: "right" }), "small"),
    ),
    stepForm(b, "shapes.split", {
      label: "Left and right",
      fields: { width: "soft over, m" },
      values: { width: Number((0.02 * b.state.height).toFixed(3)) },
      fixed: () => ({ shape: s.name }),
    }),
    s.between
      ? null
      : stepForm(b, "shapes.between", {
          label: "In-between",
          fields: { at: "on at" },
          values: { at: 0.5 },
          fixed: () => ({ shape: s.name }),
        }),
    others.length
      ? form(
          ({ other }) => b.step("shapes.together", { shapes: [s.name, other] }, { keepPose: true }),
          acts(own.select("other", "the other shape", others), submit("Where both are on", "small")),
        )
      : null,
    on.length > 1
      ? acts(
          button(
            `One of the ${on.length} that are on`,
            () => b.step("shapes.combine", { name: `${s.name} and more`, shares: Object.fromEntries(on) }),
            "small",
            { title: "A new shape of what is on now" },
          ),
        )
      : null,
  ];
}

// -- what turns a shape up -------------------------------------------------------------------------------------------
function turnings(b, s) {
  const links = b.state.rules.filter(
    (r) => r.kind === "link" && r.followers.some((f) => f.thing === `shape:${s.name}`),
  );
  const boards = b.state.boards.filter((x) => x.pictures.some((q) => s.name in q.shapes));
  const said = (r) =>
    r.lead.kind === "channel"
      ? `“${r.lead.channel}” of ${fullName(r.lead.thing.slice(8))}`
      : `${READINGS[r.lead.kind] ?? `the ${r.lead.kind}`} of ${fullName(r.lead.thing.slice(6))}`;
  return [
    links.map((r) =>
      h(
        "p",
        { key: r.name },
        said(r),
        " ",
        button("Let it go", () => b.step("rules.remove", { name: r.name }, { keepPose: true }), "small quiet"),
      ),
    ),
    boards.map((x) => h("p", { key: x.name }, `the board ${x.name}`)),
    links.length + boards.length ? null : h("p", { class: "soft" }, "Its slider alone."),
    leadByChannel(b, s),
  ];
}

/** Channels that may lead: those of the control that is chosen, and every plain value. */
function leads(b) {
  const { control } = b.plate.selected;
  return b.state.controls.flatMap((c) =>
    c.channels
      .filter((k) => !k.locked && !k.name.startsWith("in ") && (c.name === control || k.kind === "value"))
      .map((k) => [`${c.name}\n${k.name}`, `${c.name}: ${k.name}`]),
  );
}

function leadByChannel(b, s) {
  const channels = leads(b);
  if (!channels.length) return null;
  const lead = ({ channel }) => {
    const [control, name] = channel.split("\n"),
      k = b.state.controls.find((c) => c.name === control).channels.find((x) => x.name === name);
    const far = k.kind === "move" ? 0.1 * b.state.height : 1,
      keys = [
        { at: k.rest, value: 0 },
        { at: k.high !== null && k.high > k.rest ? k.high : k.rest + far, value: 1 },
      ];
    const rule = {
      kind: "link",
      name: `${name} of ${control} leads ${s.name}`.slice(0, 80),
      lead: { kind: "channel", thing: `control:${control}`, channel: name },
      followers: [{ thing: `shape:${s.name}`, curve: { keys, manner: "smooth" } }],
    };
    return b.step("rules.add", { rule, both_sides: b.symmetry }, { keepPose: true });
  };
  return form(lead, acts(own.select("channel", "channel that leads it", channels), submit("Let it lead")));
}

/** A shape that comes on with a joint's turn, begun in the pose that is shown. */
export function correctiveSheet(b) {
  const joints = b.state.joints.filter((j) => j.deforms).map((j) => [j.name, fullName(j.name)]);
  const posed = b.trial || Object.keys(b.values).some((n) => n !== "shapes" && !n.startsWith("board:"));
  if (!joints.length) return null;
  const begin = async ({ joint, reading, name }) => {
    const known = new Set(b.state.shapes.map((x) => x.name)),
      trial = b.trial;
    const params = {
      name: name.trim() || `${fullName(joint)} ${reading}`,
      joint,
      reading,
      both_sides: b.symmetry,
      ...(trial ? { trial } : { pose: structuredClone(b.values) }),
    };
    if (!(await b.step("shapes.corrective", params, { keepPose: true }))) return false;
    b.ui.shape = b.state.shapes.find((x) => !known.has(x.name))?.name ?? "";
    if (trial) b.over = true; // the skin that trials judge
    await b.posed(); // it is on there by itself
    b.useTool("sculpt");
    return true;
  };
  return folding(
    b,
    "shape-corrective",
    "Corrective for this pose",
    posed
      ? form(
          begin,
          pairs(
            ["joint", own.select("joint", "joint of the corrective", joints, { now: b.plate.selected.joint })],
            ["read by", own.select("reading", "how its turn is read", READINGS)],
            ["name", own.text("name", "name of the corrective", { placeholder: "as the joint" })],
          ),
          acts(submit("Begin it here", "mend small")),
        )
      : h("p", { class: "soft" }, "Stand at a trial on the strip, or pose the figure, then begin it here."),
  );
}
