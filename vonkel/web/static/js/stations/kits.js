// The Limbs station's left sheet: kits with their controls, and the sets of controls that are shown.
import { acts, button, chosenButton, fold, switchButton } from "../widgets/fields.js";
import { filtered, hierarchy, noJoints } from "../widgets/hierarchy.js";
import { h, tag } from "../widgets/html.js";
import { fullName, plainName } from "../words.js";

/** Switch a limb between IK and FK where it stands: the other side's controls come to it first, so nothing jumps. */
function leadButtons(b, kit) {
  const target = b.state.controls.find((c) => c.kit === kit.name && c.channels.some((k) => k.name === "ik"));
  if (!target) return null;
  const ik = b.values[target.name]?.ik ?? 1;
  const lead = (to) =>
    b.takeValues("switch", { kit: kit.name, to }, `${fullName(kit.name)} led by ${to.toUpperCase()}`);
  /** @type {[string, number][]} */
  const ends = [
    ["ik", 1],
    ["fk", 0],
  ];
  return ends.map(([to, at]) =>
    chosenButton(to.toUpperCase(), Math.abs(ik - at) < 1e-6, () => lead(to), {
      title: `Let ${to.toUpperCase()} lead from this very pose`,
    }),
  );
}

/** The joints that some kit speaks of. */
const held = (b) => new Set(b.state.kits.flatMap((k) => Object.values(k.joints).flat()));

function controlRow(b, c) {
  return h(
    "li",
    { key: c.name },
    h(
      "button",
      {
        type: "button",
        "aria-selected": String(c.name === b.plate.selected.control),
        "data-control": c.name,
        onclick: () => b.selectControl(c.name),
      },
      h("span", { class: "grow" }, plainName(c.name)),
      c.level === "body" ? null : h("span", { class: "soft" }, c.level),
    ),
  );
}

function kitRow(b, k) {
  const { levels, selected } = b.plate;
  const own = b.state.controls.filter((c) => c.kit === k.name);
  const shown = own.filter((c) => !levels || levels.has(c.level) || c.name === selected.control);
  const more = own.length - shown.length,
    open = b.ui.openKits.has(k.name) || own.some((c) => c.name === selected.control);
  const turn = (on) => {
    if (!on && own.some((c) => c.name === selected.control)) b.choose({});
    b.ui.put("openKits", k.name, on);
  };
  const title = [tag(k.side), " ", plainName(k.name), h("span", { class: "soft" }, ` ${k.kind}`)];
  return fold(
    { key: k.name, title, open, act: turn, kind: "kit", more: { "data-kit": k.name, key: k.name } },
    h(
      "ul",
      { class: "rows" },
      shown.map((c) => controlRow(b, c)),
    ),
    more ? h("p", { class: "soft" }, `and ${more} in sets not shown`) : null,
    acts(
      leadButtons(b, k),
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
    b.look();
  };
  return h(
    "div",
    { class: "acts", role: "group", "aria-label": "Sets of controls" },
    sets.map((s) => switchButton(s, on(s), () => flip(s), `Show or hide the set “${s}”`)),
  );
}

export function kitSheet(b) {
  const { joints, kits } = b.state;
  if (!joints.length) return [h("h2", {}, "Kits"), noJoints(b)];
  if (b.tool?.name === "kit") {
    const moved = held(b);
    const mark = (j) => (moved.has(j.name) ? h("span", { class: "soft", title: "A kit moves it" }, "·") : null);
    return [h("h2", {}, "Joints"), filtered(b, `Filter ${joints.length} joints …`), hierarchy(b, mark)];
  }
  return [
    h("h2", {}, "Kits and controls"),
    acts(
      kits.length ? null : button("Put on what the joints call for", () => b.step("limbs.outfit", {}), "mend"),
      button("Put on a kit (k)", () => b.useTool("kit"), "small"),
    ),
    setButtons(b),
    kits.length ? kits.map((k) => kitRow(b, k)) : h("p", { class: "empty" }, "No kits yet."),
  ];
}
