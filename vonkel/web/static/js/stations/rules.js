// Rules on the chosen control or joint: follow, spaces, springs, swings; each in one sentence.
import { acts, button, chosenButton, fold, form, numberField, own, pairs, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { fullName, measureOf } from "../words.js";
import { folded } from "./common.js";
import { linkSentence, named } from "./leading.js";

const list = (things) => things.map(named).join(" and ");
const nameOf = (thing) => thing.split(":").slice(1).join(":");
const WORDS = { all: "goes with", place: "stays by", turn: "turns with", size: "is sized with", aim: "aims at" };
const springing = (row) =>
  row.length > 1 ? `${named(row[0])} to ${named(row.at(-1))} spring` : `${named(row[0])} springs`;

/** How each kind of rule is said, and what it speaks of. */
const SAID = {
  follow: (r) =>
    [
      `${named(r.thing)} ${WORDS[r.what]} ${list(r.sources)}`,
      r.strength < 1 ? `by ${Math.round(100 * r.strength)} %` : "",
      r.reading === "local" ? "in their own parents" : "",
    ]
      .filter(Boolean)
      .join(", "),
  space: (r) => `${fullName(r.control)} may stand on ${list(r.sources)}`,
  spring: (r) => `${springing(r.things)}: ${r.stiffness} Hz, damping ${r.damping}`,
  swing: (r) => `${list(r.swingers.map((s) => `control:${s.control}`))} swing ${r.rate} times a second`,
  link: linkSentence,
};
const THINGS = {
  follow: (r) => [r.thing, ...r.sources],
  space: (r) => [`control:${r.control}`, ...r.sources],
  spring: (r) => r.things,
  swing: (r) => r.swingers.map((s) => `control:${s.control}`),
};

// -- one rule ------------------------------------------------------------------------------------------------------
const FIELDS = {
  spring: [
    ["stiffness", "Hz", 0.1],
    ["damping", "", 0.05],
    ["pull", "0–1", 0.05],
    ["weight", "", 0.1],
    ["strength", "0–1", 0.05],
  ],
  swing: [
    ["rate", "/s", 0.1],
    ["strength", "", 0.05],
  ],
  follow: [["strength", "0–1", 0.05]],
};

function numbers(b, r) {
  if (!FIELDS[r.kind]) return null;
  const edit = (change) => b.step("rules.edit", { name: r.name, rule: { ...r, ...change } }, { quiet: true });
  const rows = FIELDS[r.kind].map(([key, unit, step]) => [
    unit ? `${key}, ${unit}` : key,
    numberField(`${key} of ${r.name}`, r[key], (v) => edit({ [key]: v }), { step }),
  ]);
  return pairs(...rows, ...(r.kind === "follow" ? ofFollow(r, edit) : []));
}

/** Along which axes something follows, and how much each of several sources counts. */
function ofFollow(r, edit) {
  const put = (values, i, v) => values.map((x, k) => (k === i ? v : x));
  const axis = (a, i) =>
    chosenButton(a, r.axes[i], () => edit({ axes: put(r.axes, i, !r.axes[i]) }), { title: `Follow along ${a}` });
  const weights = r.sources.map((_, i) => r.weights[i] ?? 1);
  const weight = (s, i) => [
    named(s),
    numberField(`weight of ${named(s)}`, weights[i], (v) => edit({ weights: put(weights, i, v) }), { min: 0 }),
  ];
  return [["axes", acts(["x", "y", "z"].map(axis))], ...(r.sources.length > 1 ? r.sources.map(weight) : [])];
}

function ruleRow(b, r) {
  const key = `rule ${r.name}`;
  const turn = (on) => b.ui.put("open", key, on);
  const title = h("span", { class: r.on ? "" : "soft" }, SAID[r.kind](r));
  return fold(
    { key, title, open: b.ui.open.has(key), act: turn, more: { key, "data-rule": r.name } },
    numbers(b, r),
    acts(
      button(r.on ? "Switch off" : "Switch on", () => b.step("rules.switch", { name: r.name, on: !r.on }), "small"),
      button("Take away", () => b.step("rules.remove", { name: r.name }), "small quiet"),
    ),
  );
}

// -- making one ----------------------------------------------------------------------------------------------------
const add = (b, rule) => b.step("rules.add", { rule, both_sides: b.symmetry });

/** Everything that can be followed. */
const sources = (b) => [
  ["ground", "the ground"],
  ...b.state.controls.map((c) => [`control:${c.name}`, fullName(c.name)]),
  ...b.state.joints.map((j) => [`joint:${j.name}`, `${fullName(j.name)} (joint)`]),
];

/** What can be made of a thing: it follows, has spaces, swings, springs. */
function makers(b, thing) {
  const control = thing.startsWith("control:") ? thing.slice(8) : "";
  const ofControls = control ? [spaceMaker(b, control), swingMaker(b, control)] : [];
  return [followMaker(b, thing), ...ofControls, springMaker(b, thing, control)];
}

const number = (name, label, value, more) => own.number(name, label, value, { step: 0.05, ...more });
const row = (words, field) => [words, field];

function followMaker(b, thing) {
  const make = (said) =>
    add(b, {
      kind: "follow",
      name: `${nameOf(thing)} follows`,
      thing,
      sources: [said.of, said.also].filter(Boolean),
      what: said.what,
      reading: said.reading,
      strength: Number(said.strength),
    });
  const all = sources(b);
  return folded(
    b,
    "Let it follow",
    form(
      make,
      pairs(
        row("it", own.select("what", "How it follows", WORDS)),
        row("what", own.select("of", "What it follows", all)),
        row("and", own.select("also", "And also", [["", "nothing else"], ...all])),
        row(
          "read",
          own.select("reading", "How sources are read", { world: "as they stand", local: "in their own parents" }),
        ),
        row("strength", number("strength", "Strength", 1, { min: 0, max: 1 })),
      ),
      acts(submit("Follow")),
    ),
  );
}

function spaceMaker(b, control) {
  const make = (said) =>
    add(b, { kind: "space", name: `${control} spaces`, control, sources: [said.home], what: said.what });
  const holds = { all: "place and turn", turn: "turn only", place: "place only" };
  return folded(
    b,
    "Give it a space",
    form(
      make,
      pairs(
        row("on", own.select("home", "Its space", sources(b))),
        row("takes", own.select("what", "What the space holds", holds)),
      ),
      acts(submit("Add the space")),
    ),
  );
}

/** A swing of one channel, and with symmetry of its partner's, in one rule. */
function swingMaker(b, control) {
  const channels = b.state.controls.find((c) => c.name === control).channels.filter((k) => !k.locked);
  const make = (said) => {
    const { out } = measureOf(channels.find((k) => k.name === said.channel));
    const swing = { control, channel: said.channel, angle: Number(said.angle) / out, phase: Number(said.phase) };
    return b.step("rules.swing", { ...swing, rate: Number(said.rate), both_sides: b.symmetry });
  };
  return folded(
    b,
    "Let it swing",
    form(
      make,
      pairs(
        row("channel", own.select("channel", "What swings", Object.fromEntries(channels.map((k) => [k.name, k.name])))),
        row("rate, /s", number("rate", "Rounds a second", 1, { min: 0.05 })),
        row("by, ° cm", number("angle", "Angle", 20, { step: 1 })),
        row("phase", number("phase", "Phase", 0)),
      ),
      h("p", { class: "soft" }, "With symmetry on, both sides swing in one rule, on one rate."),
      acts(submit("Swing")),
    ),
  );
}

function springMaker(b, thing, control) {
  const chain = control ? [thing] : b.chainFrom(nameOf(thing)).map((n) => `joint:${n}`);
  const make = (said) =>
    add(b, {
      kind: "spring",
      name: `${nameOf(thing)} spring`,
      things: chain,
      stiffness: Number(said.stiffness),
      damping: Number(said.damping),
      weight: Number(said.weight),
    });
  return folded(
    b,
    "Let it spring",
    form(
      make,
      pairs(
        row("own, Hz", number("stiffness", "Spring frequency", 3, { min: 0.1 })),
        row("damping", number("damping", "Spring damping", 0.25, { min: 0 })),
        row("weight", number("weight", "Spring weight", 0, { min: 0 })),
      ),
      h("p", { class: "soft" }, chain.length > 1 ? `All ${chain.length} joints from here on.` : "This one alone."),
      acts(submit("Spring")),
    ),
  );
}

export function ruleSheet(b) {
  const s = b.plate.selected,
    thing = s.control ? `control:${s.control}` : s.joint ? `joint:${s.joint}` : "";
  const rules = b.state.rules.filter((r) => r.kind !== "link"),
    mine = thing ? rules.filter((r) => THINGS[r.kind](r).includes(thing)) : rules;
  const ask = "Choose a control, or show joints and choose one, to make a rule for it.";
  return [
    h("h2", {}, thing ? `Rules of ${named(thing)}` : "Rules"),
    mine.length ? mine.map((r) => ruleRow(b, r)) : h("p", { class: "empty" }, "None here."),
    thing ? h("div", { key: thing }, makers(b, thing)) : h("p", { class: "soft" }, ask),
  ];
}
