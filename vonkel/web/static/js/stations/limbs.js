// The Limbs station: kits, controls, what leads what, rules, and the order in which all is solved.
import { fullName, h, measureOf, plainName, say, tag, toast } from "../dom.js";
import { button, choices, filtered, fold, hierarchy, noJoints, pairs, switchButton } from "./common.js";
import { linkSheet } from "./links.js";
import { orderSheet } from "./order.js";
import { channelSheet, poseDock, poseSheet } from "./posing.js";
import { ruleSheet } from "./rules.js";

const VIEWS = { control: "Control", links: "Links", rules: "Rules", order: "Order" };

/** Switch a limb between IK and FK where it stands: the other side's controls come to it first, so nothing jumps. */
function leadButtons(b, kit) {
  const target = b.state.controls.find((c) => c.kit === kit.name && c.channels.some((k) => k.name === "ik"));
  const ik = b.values[target.name]?.ik ?? 1;
  const lead = (to) =>
    b.takeValues("switch", { kit: kit.name, to }, `${fullName(kit.name)} led by ${to.toUpperCase()}`);
  /** @type {[string, number][]} */
  const ends = [
    ["ik", 1],
    ["fk", 0],
  ];
  return ends.map(([to, at]) =>
    h(
      "button",
      {
        class: "small",
        "aria-pressed": String(Math.abs(ik - at) < 1e-6),
        title: `Let ${to.toUpperCase()} lead from this very pose`,
        onclick: () => lead(to),
      },
      to.toUpperCase(),
    ),
  );
}

/** The joints that some kit speaks of. */
const held = (b) => new Set(b.state.kits.flatMap((k) => Object.values(k.joints).flat()));

function kitRow(b, k) {
  const own = b.state.controls.filter((c) => c.kit === k.name);
  const shown = own.filter(
    (c) => !b.plate.levels || b.plate.levels.has(c.level) || c.name === b.plate.selected.control,
  );
  const more = own.length - shown.length;
  return h(
    "details",
    { open: own.some((c) => c.name === b.plate.selected.control), "data-kit": k.name },
    h("summary", {}, tag(k.side), " ", plainName(k.name), h("span", { class: "soft" }, ` ${k.kind}`)),
    h(
      "ul",
      { class: "rows" },
      shown.map((c) =>
        h(
          "li",
          {},
          h(
            "button",
            {
              "aria-selected": String(c.name === b.plate.selected.control),
              "data-control": c.name,
              "data-keep": `c-${c.name}`,
              onclick: () => b.selectControl(c.name),
            },
            h("span", { class: "grow" }, plainName(c.name)),
            c.level === "body" ? null : h("span", { class: "soft" }, c.level),
          ),
        ),
      ),
    ),
    more ? h("p", { class: "soft" }, `and ${more} in sets not shown`) : null,
    h(
      "div",
      { class: "acts" },
      ["arm", "leg"].includes(k.kind) ? leadButtons(b, k) : null,
      k.side !== "C" ? button("Mirror", () => b.step("limbs.mirror_kit", { kit: k.name }), "small quiet") : null,
      Object.keys(k.places).length ? button("Its points", () => b.openKitPoints(k.name), "small quiet") : null,
      button("Take off", () => b.step("limbs.remove_kit", { kit: k.name }), "small quiet"),
    ),
  );
}

/** Sets of controls, each shown or hidden. */
function setButtons(b) {
  const sets = [...new Set(b.state.controls.map((c) => c.level))];
  if (sets.length < 2) return null;
  const on = (s) => !b.plate.levels || b.plate.levels.has(s);
  const flip = (s) => {
    const now = new Set(sets.filter(on));
    if (now.has(s)) now.delete(s);
    else now.add(s);
    b.plate.levels = now.size === sets.length ? null : now;
    b.plate.draw();
    b.sheets();
    b.dock();
  };
  return h(
    "div",
    { class: "acts", role: "group", "aria-label": "Sets of controls" },
    sets.map((s) => switchButton(s, on(s), () => flip(s), `Show or hide the set “${s}”`)),
  );
}

const inSpace = (label) => `in ${fullName(label.slice(3))}`;

/** The chosen control's spaces, each a button that switches to it where it stands. */
function spaces(b, name) {
  return b.state.rules
    .filter((r) => r.kind === "space" && r.control === name)
    .map((r) => {
      const labels = (r.labels.length ? r.labels : r.sources.map((s) => s.split(":").slice(1).join(":") || s)).map(
        (l) => `in ${l}`,
      );
      const now = labels.find((l) => (b.values[name]?.[l] ?? 0) > 0.999) ?? "";
      const words = { all: "stands", turn: "turns", place: "is placed" }[r.what];
      const to = (label) =>
        b.takeValues(
          "space",
          { rule: r.name, to: label },
          `${fullName(name)} ${label ? inSpace(label) : "in its own space"}`,
        );
      return h(
        "div",
        {},
        h("p", { class: "soft" }, `It ${words}`),
        h(
          "div",
          { class: "acts" },
          [["", "with its parent"], ...labels.map((l) => [l, inSpace(l)])].map(([l, t]) =>
            h("button", { class: "small", "aria-pressed": String(now === l), onclick: () => to(l) }, t),
          ),
        ),
      );
    });
}

function controlTools(b) {
  const c = b.state.controls.find((x) => x.name === b.plate.selected.control);
  if (!c) return [];
  const set = h("input", {
    type: "text",
    value: c.level,
    maxlength: 30,
    style: "width:110px",
    "aria-label": "Set",
    onchange: (e) =>
      b.step("controls.set", { controls: [c.name], level: e.target.value.trim(), both_sides: b.symmetry }),
  });
  const size = h("input", {
    type: "number",
    value: String(c.grow),
    step: 0.1,
    min: 0.1,
    "aria-label": "size of the outline",
    onchange: (e) =>
      b.step("controls.shape", {
        controls: [c.name],
        shape: c.shape,
        grow: Number(e.target.value),
        both_sides: b.symmetry,
      }),
  });
  const shape = h(
    "select",
    {
      "aria-label": "Outline",
      onchange: (e) =>
        b.step("controls.shape", { controls: [c.name], shape: e.target.value, grow: c.grow, both_sides: b.symmetry }),
    },
    [["", "slice of the body"], ...Object.entries(b.kitKinds?.shapes ?? {})].map(([k, t]) =>
      h("option", { value: k, selected: k === c.shape }, k ? `${k}: ${t}` : t),
    ),
  );
  const name = h("input", {
    type: "text",
    value: c.name,
    maxlength: 60,
    style: "width:150px",
    "aria-label": "Control name",
    onchange: (e) =>
      b.step("controls.rename", { control: c.name, name: e.target.value.trim() }).then((ok) => {
        if (ok) b.selectControl(e.target.value.trim());
      }),
  });
  return [
    ...spaces(b, c.name),
    fold(b, "Shape, set and name", pairs(["outline", shape], ["size", size], ["set", set], ["name", name])),
    fold(
      b,
      "Limits and locks",
      h(
        "table",
        { class: "limits" },
        h(
          "tbody",
          {},
          c.channels.map((k) => limitRow(b, c, k)),
        ),
      ),
      newChannel(b, c),
    ),
  ];
}

function limitRow(b, c, k) {
  const { out } = measureOf(k);
  const send = (change) =>
    b.step(
      "controls.limit",
      {
        controls: [c.name],
        channel: k.name,
        low: k.low,
        high: k.high,
        locked: k.locked,
        both_sides: b.symmetry,
        ...change,
      },
      { quiet: true },
    );
  const end = (which) =>
    h("input", {
      type: "number",
      step: "any",
      value: k[which] === null ? "" : String(Math.round(k[which] * out * 100) / 100),
      placeholder: "none",
      "aria-label": `${k.name} ${which} limit`,
      onchange: (e) => send({ [which]: e.target.value === "" ? null : Number(e.target.value) / out }),
    });
  return h(
    "tr",
    {},
    h("td", {}, k.name),
    h("td", {}, end("low")),
    h("td", {}, end("high")),
    h(
      "td",
      {},
      k.added
        ? button(
            "×",
            () => b.step("controls.remove_channel", { control: c.name, name: k.name, both_sides: b.symmetry }),
            "small quiet",
          )
        : switchButton(
            "lock",
            k.locked,
            () => send({ locked: !k.locked }),
            "Locked channels stay at rest and are hidden",
          ),
    ),
  );
}

function newChannel(b, c) {
  const field = h("input", {
    type: "text",
    placeholder: "new channel",
    maxlength: 40,
    style: "width:120px",
    "aria-label": "New channel",
    "data-keep": "new-channel",
  });
  const add = async () => {
    const name = field.value.trim();
    if (!name) {
      toast("Name the channel first.");
      return;
    }
    field.value = "";
    await b.step("controls.add_channel", { control: c.name, name, both_sides: b.symmetry });
  };
  return h("div", { class: "acts" }, field, button("Add, −1 to 1", add, "small"));
}

/** Trying a motion: springs and swings run live, or a pass from rest to the pose and back is scrubbed. */
function motionSheet(b) {
  const frames = b.motionFrames;
  const bar = h("input", {
    type: "range",
    min: 0,
    max: frames - 1,
    step: 1,
    value: String(b.motionFrame),
    "aria-label": "Frame of the try",
    "data-keep": "motion-frame",
    oninput: (e) => b.motionTo(Number(e.target.value)),
  });
  const moving = b.state.rules.filter((r) => (r.kind === "spring" || r.kind === "swing") && r.on).length;
  return [
    fold(
      b,
      "Springs and swings in motion",
      h("p", { class: "soft" }, moving ? `${moving} of them. Live, they follow your hand.` : "None yet: see Rules."),
      h(
        "div",
        { class: "acts" },
        h(
          "button",
          { class: "small", "aria-pressed": String(b.running), onclick: () => b.run(!b.running) },
          b.running ? "Stop" : "Run live",
        ),
        button("Reset", () => b.run("reset"), "small"),
      ),
      h("p", { class: "soft" }, "A try in 3 seconds: from rest to the pose at hand, held, and back."),
      bar,
      h(
        "div",
        { class: "acts" },
        h(
          "button",
          { class: "small", "aria-pressed": String(b.playing), onclick: () => b.playMotion(!b.playing) },
          b.playing ? "Stop" : "Play",
        ),
        h("output", { class: "soft fig" }, `frame ${b.motionFrame} of ${frames}`),
      ),
    ),
  ];
}

function otherSide(b) {
  const c = b.plate.selected.control;
  const mirror = (how, label) => b.takeValues("mirror_pose", { how }, label);
  return h(
    "div",
    { class: "acts" },
    c ? button("Opposite (o)", () => b.selectOpposite(), "small") : null,
    button("Swap sides", () => mirror("swap", "Swapped left and right"), "small"),
    button("L to R", () => mirror("L", "Left copied to the right"), "small"),
    button("R to L", () => mirror("R", "Right copied to the left"), "small"),
  );
}

function backButtons(b) {
  const c = b.state.controls.find((x) => x.name === b.plate.selected.control);
  if (!c) return null;
  const back = (names, label) => {
    b.trial = "";
    b.values = Object.fromEntries(Object.entries(b.values).filter(([k]) => !names.has(k)));
    b.pose();
    b.keepPose(label);
  };
  return h(
    "div",
    { class: "acts" },
    button("Zero it", () => back(new Set([c.name]), `Zeroed ${c.name}`), "small"),
    button(
      `Zero the set “${c.level}”`,
      () =>
        back(
          new Set(b.state.controls.filter((x) => x.level === c.level).map((x) => x.name)),
          `Zeroed the set ${c.level}`,
        ),
      "small",
    ),
  );
}

export const limbs = {
  large: "free",
  layers: { controls: true },
  levels: new Set(["body", "face"]),
  shading: "colours",
  left: (b) => {
    if (!b.state.joints.length) return [h("h2", {}, "Kits"), ...noJoints(b)];
    if (b.tool?.name === "kit")
      return [
        h("h2", {}, "Joints"),
        filtered(b, "jointFilter", `Filter ${b.state.joints.length} joints …`),
        hierarchy(b, (j) => (held(b).has(j.name) ? h("span", { class: "soft", title: "A kit moves it" }, "·") : null)),
      ];
    return [
      h("h2", {}, "Kits and controls"),
      h(
        "div",
        { class: "acts" },
        b.state.kits.length
          ? null
          : button("Put on what the joints call for", () => b.step("limbs.outfit", {}), "mend"),
        button("Put on a kit (k)", () => b.useTool("kit"), "small"),
      ),
      setButtons(b),
      ...(b.state.kits.length ? b.state.kits.map((k) => kitRow(b, k)) : [h("p", { class: "empty" }, "No kits yet.")]),
    ].filter(Boolean);
  },
  right: (b) => {
    const view = b.rigView ?? "control";
    const head = b.state.kits.length
      ? [
          choices(VIEWS, view, (v) => {
            b.rigView = v;
            b.sheets();
          }),
        ]
      : [];
    if (view === "links") return [...head, ...linkSheet(b)];
    if (view === "rules") return [...head, ...ruleSheet(b)];
    if (view === "order") return [...head, ...orderSheet(b)];
    return [
      ...head,
      ...channelSheet(b, false),
      backButtons(b),
      ...controlTools(b),
      ...poseSheet(b),
      otherSide(b),
      ...motionSheet(b),
    ].filter(Boolean);
  },
  dock: (b) => [
    ...poseDock(b),
    {
      label: "Kit",
      tool: true,
      on: b.tool?.name === "kit",
      title: "Put on a kit (k)",
      act: () => b.useTool(b.tool?.name === "kit" ? null : "kit"),
    },
  ],
  enter: (b) => {
    b.loadKitKinds().catch(say);
  },
  picked: (b, name) => b.tool?.pick?.(name),
  key: { k: "kit" },
  keys: [["k", "put on a kit"]],
};
