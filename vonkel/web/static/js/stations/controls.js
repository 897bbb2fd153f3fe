// The chosen control: its spaces, outline, set, name, limits, and channels of its own.
import { acts, button, chosenButton, numberField, pairs, select, switchButton, textField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { fullName, measureOf } from "../words.js";
import { folded } from "./common.js";
import { chosenControl } from "./posing.js";

const inSpace = (label) => `in ${fullName(label.slice(3))}`;
const STANDS = { all: "stands", turn: "turns", place: "is placed" };

/** The chosen control's spaces, each a button that switches to it where it stands. */
function spaces(b, name) {
  return b.state.rules.filter((r) => r.kind === "space" && r.control === name).map((r) => spaceRow(b, name, r));
}

function spaceRow(b, name, r) {
  const sources = r.labels.length ? r.labels : r.sources.map((s) => s.split(":").slice(1).join(":") || s);
  const labels = sources.map((l) => `in ${l}`);
  const now = labels.find((l) => (b.values[name]?.[l] ?? 0) > 0.999) ?? "";
  const to = (label) =>
    b.takeValues(
      "space",
      { rule: r.name, to: label },
      `${fullName(name)} ${label ? inSpace(label) : "in its own space"}`,
    );
  return h(
    "div",
    { key: r.name },
    h("p", { class: "soft" }, `It ${STANDS[r.what]}`),
    acts(
      chosenButton("with its parent", now === "", () => to("")),
      labels.map((l) => chosenButton(inSpace(l), now === l, () => to(l))),
    ),
  );
}

function shapeFields(b, c) {
  const both = { controls: [c.name], both_sides: b.symmetry };
  const shape = (change) => b.step("controls.shape", { ...both, shape: c.shape, grow: c.grow, ...change });
  const outlines = Object.entries(b.kitKinds?.shapes ?? {}).map(([k, t]) => [k, `${k}: ${t}`]);
  const rename = async (name) => {
    if (await b.step("controls.rename", { control: c.name, name: name.trim() })) b.selectControl(name.trim());
  };
  return pairs(
    ["outline", select("Outline", [["", "slice of the body"], ...outlines], c.shape, (k) => shape({ shape: k }))],
    ["size", numberField("size of the outline", c.grow, (grow) => shape({ grow }), { min: 0.1 })],
    ["set", textField("Set", c.level, (level) => b.step("controls.set", { ...both, level: level.trim() }))],
    ["name", textField("Control name", c.name, rename)],
  );
}

function limitRow(b, c, k) {
  const { out } = measureOf(k);
  const now = { low: k.low, high: k.high, locked: k.locked };
  const send = (change) =>
    b.step(
      "controls.limit",
      { controls: [c.name], channel: k.name, ...now, both_sides: b.symmetry, ...change },
      { quiet: true },
    );
  const end = (which) =>
    numberField(
      `${k.name} ${which} limit`,
      k[which] === null ? "" : Math.round(k[which] * out * 100) / 100,
      (v) => send({ [which]: v === null ? null : v / out }),
      { step: "any", placeholder: "none", empty: true },
    );
  const away = () => b.step("controls.remove_channel", { control: c.name, name: k.name, both_sides: b.symmetry });
  const lock = () => send({ locked: !k.locked });
  return h(
    "tr",
    { key: k.name },
    h("td", {}, k.name),
    h("td", {}, end("low")),
    h("td", {}, end("high")),
    h(
      "td",
      {},
      k.added
        ? button("×", away, "small quiet", { "aria-label": `Take ${k.name} away` })
        : switchButton("lock", k.locked, lock, "Locked channels stay at rest and are hidden"),
    ),
  );
}

const newChannel = (b, c) =>
  stepForm(b, "controls.add_channel", {
    label: "Add, −1 to 1",
    fields: { name: "new channel" },
    fixed: () => ({ control: c.name, both_sides: b.symmetry }),
    more: { name: { "aria-label": "New channel", required: true } },
  });

export function controlTools(b) {
  const c = chosenControl(b);
  if (!c) return null;
  const limits = h(
    "table",
    { class: "limits" },
    h(
      "tbody",
      {},
      c.channels.map((k) => limitRow(b, c, k)),
    ),
  );
  return [
    spaces(b, c.name),
    folded(b, "Shape, set and name", shapeFields(b, c)),
    folded(b, "Limits and locks", limits, newChannel(b, c)),
  ];
}
