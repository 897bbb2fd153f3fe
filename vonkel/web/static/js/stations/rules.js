// Rules on the chosen control or joint: follow, spaces, springs, swings; each in one sentence.
import { fullName, h, measureOf } from "../dom.js";
import { button, fold, pairs, plain } from "./common.js";
import { linkSentence } from "./links.js";

const named = (thing) => (thing === "ground" ? "the ground" : fullName(thing.split(":").slice(1).join(":")));
const list = (things) => things.map(named).join(" and ");
const WORDS = { all: "goes with", place: "stays by", turn: "turns with", size: "is sized with", aim: "aims at" };

function sentence(r) {
  if (r.kind === "follow")
    return [
      `${named(r.thing)} ${WORDS[r.what]} ${list(r.sources)}`,
      r.strength < 1 ? `by ${Math.round(100 * r.strength)} %` : "",
      r.reading === "local" ? "in their own parents" : "",
    ]
      .filter(Boolean)
      .join(", ");
  if (r.kind === "space") return `${fullName(r.control)} may stand on ${list(r.sources)}`;
  if (r.kind === "spring") return `${springing(r.things)}: ${r.stiffness} Hz, damping ${r.damping}`;
  if (r.kind === "swing")
    return `${list(r.swingers.map((s) => `control:${s.control}`))} swing ${r.rate} times a second`;
  return linkSentence(r);
}

const things = (r) =>
  r.kind === "follow"
    ? [r.thing, ...r.sources]
    : r.kind === "space"
      ? [`control:${r.control}`, ...r.sources]
      : r.kind === "spring"
        ? r.things
        : r.kind === "swing"
          ? r.swingers.map((s) => `control:${s.control}`)
          : [];

function numbers(b, r) {
  const edit = (change) => b.step("rules.edit", { name: r.name, rule: { ...r, ...change } }, { quiet: true });
  const field = (key, unit, step) => [
    key,
    h(
      "span",
      {},
      h("input", {
        type: "number",
        value: String(r[key]),
        step,
        "aria-label": `${key} of ${r.name}`,
        "data-keep": `r-${r.name}-${key}`,
        onchange: (e) => edit({ [key]: Number(e.target.value) }),
      }),
      ` ${unit}`,
    ),
  ];
  if (r.kind === "spring")
    return pairs(
      field("stiffness", "Hz", 0.1),
      field("damping", "", 0.05),
      field("pull", "0–1", 0.05),
      field("weight", "", 0.1),
      field("strength", "0–1", 0.05),
    );
  if (r.kind === "swing") return pairs(field("rate", "/s", 0.1), field("strength", "", 0.05));
  if (r.kind === "follow") {
    const weights = r.sources.map((_, i) => r.weights[i] ?? 1);
    const weight = (i) =>
      h("input", {
        type: "number",
        min: 0,
        step: 0.1,
        value: String(weights[i]),
        "aria-label": `weight of ${named(r.sources[i])}`,
        onchange: (e) => edit({ weights: weights.map((w, k) => (k === i ? Number(e.target.value) : w)) }),
      });
    const axes = h(
      "span",
      { class: "acts" },
      ["x", "y", "z"].map((a, i) =>
        h(
          "button",
          {
            class: "small",
            "aria-pressed": String(r.axes[i]),
            title: `Follow along ${a}`,
            onclick: () => edit({ axes: r.axes.map((v, k) => (k === i ? !v : v)) }),
          },
          a,
        ),
      ),
    );
    return pairs(
      field("strength", "0–1", 0.05),
      ["axes", axes],
      ...(r.sources.length > 1 ? r.sources.map((s, i) => [named(s), weight(i)]) : []),
    );
  }
  return null;
}

/** A list of everything that can be followed. */
function source(b, label, none = false) {
  const options = [
    ...(none ? [["", "nothing else"]] : []),
    ["ground", "the ground"],
    ...b.state.controls.map((c) => [`control:${c.name}`, fullName(c.name)]),
    ...b.state.joints.map((j) => [`joint:${j.name}`, `${fullName(j.name)} (joint)`]),
  ];
  return h(
    "select",
    { "aria-label": label, "data-keep": label, style: "max-width:160px" },
    options.map(([k, t]) => h("option", { value: k, selected: k === b[label] }, t)),
  );
}

const springing = (row) =>
  row.length > 1 ? `${named(row[0])} to ${named(row.at(-1))} spring` : `${named(row[0])} springs`;

const choice = (label, options) =>
  h(
    "select",
    { "aria-label": label },
    options.map(([k, t]) => h("option", { value: k }, t)),
  );

const add = (b, rule) => b.step("rules.add", { rule, both_sides: b.symmetry });
const nameOf = (thing) => thing.split(":").slice(1).join(":");

/** What can be made of a thing: it follows, has spaces, swings, springs. */
function makers(b, thing) {
  const control = thing.startsWith("control:") ? thing.slice(8) : "";
  const ofControls = control ? [spaceMaker(b, control), swingMaker(b, control)] : [];
  return [followMaker(b, thing), ...ofControls, springMaker(b, thing, control)];
}

function followMaker(b, thing) {
  const what = choice("How it follows", Object.entries(WORDS)),
    of = source(b, "What it follows"),
    also = source(b, "And also", true),
    share = plain("Strength", 1, { min: 0, max: 1, step: 0.05 });
  const reading = choice("How sources are read", [
    ["world", "as they stand"],
    ["local", "in their own parents"],
  ]);
  const make = () =>
    add(b, {
      kind: "follow",
      name: `${nameOf(thing)} follows`,
      thing,
      sources: [of.value, also.value].filter(Boolean),
      what: what.value,
      reading: reading.value,
      strength: Number(share.value),
    });
  return fold(
    b,
    "Let it follow",
    pairs(["it", what], ["what", of], ["and", also], ["read", reading], ["strength", share]),
    h("div", { class: "acts" }, button("Follow", make, "small")),
  );
}

function spaceMaker(b, control) {
  const home = source(b, "Its space");
  const manner = choice("What the space holds", [
    ["all", "place and turn"],
    ["turn", "turn only"],
    ["place", "place only"],
  ]);
  const make = () =>
    add(b, { kind: "space", name: `${control} spaces`, control, sources: [home.value], what: manner.value });
  return fold(
    b,
    "Give it a space",
    pairs(["on", home], ["takes", manner]),
    h("div", { class: "acts" }, button("Add the space", make, "small")),
  );
}

function swingMaker(b, control) {
  const channels = b.state.controls.find((c) => c.name === control).channels.filter((k) => !k.locked);
  const channel = choice(
    "What swings",
    channels.map((k) => [k.name, k.name]),
  );
  const rate = plain("Rounds a second", 1, { min: 0.05, step: 0.1 }),
    angle = plain("Angle", 20, { step: 1 }),
    phase = plain("Phase", 0, { step: 0.05 });
  const swing = async () => {
    const k = channels.find((x) => x.name === channel.value);
    const by = Number(angle.value) / measureOf(k).out;
    await b.addSwing({ control, channel: k.name, angle: by, phase: Number(phase.value) }, Number(rate.value));
  };
  return fold(
    b,
    "Let it swing",
    pairs(["channel", channel], ["rate, /s", rate], ["by, ° cm", angle], ["phase", phase]),
    h("p", { class: "soft" }, "With symmetry on, both sides swing in one rule, on one rate."),
    h("div", { class: "acts" }, button("Swing", swing, "small")),
  );
}

function springMaker(b, thing, control) {
  const hertz = plain("Spring frequency", 3, { min: 0.1, step: 0.1 }),
    damping = plain("Spring damping", 0.25, { min: 0, step: 0.05 }),
    weight = plain("Spring weight", 0, { min: 0, step: 0.1 });
  const chain = control ? [thing] : b.chainFrom(nameOf(thing)).map((n) => `joint:${n}`);
  const make = () =>
    add(b, {
      kind: "spring",
      name: `${nameOf(thing)} spring`,
      things: chain,
      stiffness: Number(hertz.value),
      damping: Number(damping.value),
      weight: Number(weight.value),
    });
  return fold(
    b,
    "Let it spring",
    pairs(["own, Hz", hertz], ["damping", damping], ["weight", weight]),
    h("p", { class: "soft" }, chain.length > 1 ? `All ${chain.length} joints from here on.` : "This one alone."),
    h("div", { class: "acts" }, button("Spring", make, "small")),
  );
}

export function ruleSheet(b) {
  const s = b.plate.selected,
    thing = s.control ? `control:${s.control}` : s.joint ? `joint:${s.joint}` : "";
  const rules = b.state.rules.filter((r) => r.kind !== "link"),
    mine = thing ? rules.filter((r) => things(r).includes(thing)) : rules;
  return [
    h("h2", {}, thing ? `Rules of ${named(thing)}` : "Rules"),
    ...(mine.length
      ? mine.map((r) =>
          h(
            "details",
            { class: "fold", "data-rule": r.name },
            h("summary", { class: r.on ? "" : "soft" }, sentence(r)),
            numbers(b, r),
            h(
              "div",
              { class: "acts" },
              button(
                r.on ? "Switch off" : "Switch on",
                () => b.step("rules.switch", { name: r.name, on: !r.on }),
                "small",
              ),
              button("Take away", () => b.step("rules.remove", { name: r.name }), "small quiet"),
            ),
          ),
        )
      : [h("p", { class: "empty" }, "None here.")]),
    ...(thing
      ? makers(b, thing)
      : [h("p", { class: "soft" }, "Choose a control, or show joints and choose one, to make a rule for it.")]),
  ].filter(Boolean);
}
