// Shapes by their headings; which one is chosen, how it is turned up, and what of it is shown on the mesh.
import { bytes, call } from "../net/api.js";
import { button, fold, numberField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";

/** The shape that is chosen, if one is. */
export const chosenShape = (b) => b.state.shapes.find((s) => s.name === b.ui.shape) ?? null;

const LEGENDS = {
  moves: (of) => ({ title: `how far ${of} moves each point`, labels: ["0", "", "", "", "most"] }),
  trespass: (of) => ({ title: `what ${of} moves outside its region`, labels: ["0", "", "", "", "most"] }),
  region: (of) => ({ title: `what belongs to ${of}` }),
};

/**
 * What a shape moves, where it trespasses, or a region's amounts: a number for each point.
 * @returns {Promise<Float32Array>}
 */
export async function mapOf(b, kind, of) {
  return new Float32Array(await bytes(`/api/c/${b.number}/shapes/map/${kind}?of=${encodeURIComponent(of)}`));
}

/** Colour the mesh by what a shape moves, where it trespasses, or a region; or not at all. */
export async function showShapeMap(b) {
  const { shapeMap } = b.ui,
    of = shapeMap === "region" ? b.ui.region : b.ui.shape;
  if (!shapeMap || !of) {
    b.plate.setValues(null, b.kind.shading?.(b) ?? "clay");
    b.legend = null;
    return;
  }
  try {
    const data = await mapOf(b, shapeMap, of);
    if (b.station !== "shapes" || b.ui.shapeMap !== shapeMap) return;
    b.plate.setValues(data);
    b.legend = LEGENDS[shapeMap](of);
  } catch (error) {
    say(error);
  }
}

/** Sliders that bring a shape to a strength: its own, or those of the shapes that it comes on with. */
function sliders(b, shape, strength, out = {}) {
  const named = (n) => b.state.shapes.find((s) => s.name === n);
  if (shape.of.length) for (const n of shape.of) sliders(b, named(n), 1, out);
  else if (shape.between) sliders(b, named(shape.between), shape.at, out);
  else out[shape.name] = Math.min(Math.max(strength, shape.low), shape.high);
  return out;
}

/** Turn a shape up, where it isn't on already. */
export function turnOn(b, shape) {
  if (Math.abs(b.strengths[shape.name] ?? 0) > 0.05) return;
  b.trial = "";
  setStrengths(b, { ...b.values.shapes, ...sliders(b, shape, 1) }, `Turned ${shape.name} up`);
}

/** That shape alone: every other slider and every bead at rest. */
export function alone(b, shape) {
  b.trial = "";
  b.values = Object.fromEntries(Object.entries(b.values).filter(([name]) => !name.startsWith("board:")));
  setStrengths(b, sliders(b, shape, 1), `${shape.name} alone`);
}

function setStrengths(b, shapes, label) {
  b.values = { ...b.values, shapes };
  b.pose();
  b.keepPose(label);
}

export function chooseShape(b, name) {
  b.ui.shape = name;
  b.tool?.pick?.();
  if (b.ui.shapeMap && b.ui.shapeMap !== "region") showShapeMap(b);
}

const comesFrom = (s) => (s.of.length ? `with ${s.of.join(" and ")}` : s.between ? `${s.at} of ${s.between}` : "");

/** Put one shape before or behind the next of its heading. */
export function move(b, shape, by) {
  const order = b.state.shapes.map((s) => s.name),
    kin = b.state.shapes.filter((s) => s.heading === shape.heading).map((s) => s.name),
    other = kin[kin.indexOf(shape.name) + by];
  if (!other) return;
  const [i, j] = [order.indexOf(shape.name), order.indexOf(other)];
  [order[i], order[j]] = [order[j], order[i]];
  b.step("shapes.order", { shapes: order }, { quiet: true, keepPose: true });
}

function row(b, s) {
  const on = b.strengths[s.name] ?? 0;
  const keyed = (e) => {
    if (!e.altKey || !["ArrowUp", "ArrowDown"].includes(e.key)) return;
    e.preventDefault();
    move(b, s, e.key === "ArrowUp" ? -1 : 1);
  };
  return h(
    "li",
    { key: s.name },
    h(
      "button",
      {
        type: "button",
        "aria-selected": String(b.ui.shape === s.name),
        title: comesFrom(s) || (s.region ? `of ${s.region}` : ""),
        onclick: () => chooseShape(b, s.name),
        onkeydown: keyed,
      },
      h("span", { class: "grow" }, s.name),
      s.points ? null : h("span", { class: "soft" }, "empty"),
      comesFrom(s) ? h("span", { class: "soft" }, s.of.length ? "both" : `at ${s.at}`) : null,
      on ? h("span", { class: "fig" }, on.toFixed(2)) : null,
    ),
  );
}

/** All shapes, under their headings. */
export function shapeList(b) {
  const headings = [...new Set(b.state.shapes.map((s) => s.heading))];
  const rows = (heading) =>
    h(
      "ul",
      { class: "rows" },
      b.state.shapes.filter((s) => s.heading === heading).map((s) => row(b, s)),
    );
  return headings.map((heading) =>
    heading
      ? fold(
          {
            key: `shapes ${heading}`,
            title: heading,
            open: !b.ui.foldedShapes.has(heading),
            act: (on) => b.ui.put("foldedShapes", heading, !on),
          },
          rows(heading),
        )
      : rows(heading),
  );
}

/** Regions by their names; one that is chosen is shown on the mesh. */
export function regionList(b) {
  const { regions } = b.state;
  const show = (r) => {
    b.ui.region = b.ui.region === r.name && b.ui.shapeMap === "region" ? "" : r.name;
    b.ui.shapeMap = b.ui.region ? "region" : "";
    showShapeMap(b);
  };
  if (!regions.length) return h("p", { class: "empty" }, "Paint one: brows, eyes, mouth. Its shapes keep to it.");
  return h(
    "ul",
    { class: "rows" },
    regions.map((r) =>
      h(
        "li",
        { key: r.name },
        h(
          "button",
          { type: "button", "aria-selected": String(b.ui.region === r.name), onclick: () => show(r) },
          h("span", { class: "grow" }, r.name),
          r.rim ? h("span", { class: "soft" }, "rim") : null,
          h("span", { class: "fig soft" }, String(r.points)),
        ),
      ),
    ),
  );
}

/** What may be done with the region that is chosen. */
export function regionActs(b) {
  const region = b.state.regions.find((r) => r.name === b.ui.region);
  if (!region) return null;
  const edit = (more) => b.step("regions.edit", { region: region.name, ...more }, { quiet: true });
  const by = 0.01 * b.state.height;
  return h(
    "div",
    { class: "acts" },
    button("Grow", () => edit({ grow: by, soft: by }), "small"),
    button("Shrink", () => edit({ grow: -by, soft: by }), "small"),
    button(region.rim ? "No rim" : "A rim", () => edit({ rim: !region.rim }), "small", {
      title: "A coloured band, such as lips, keeps its width in every shape",
    }),
    numberField("How far its skin may go in trials, times as usual", region.allow, (allow) => edit({ allow }), {
      step: 0.5,
      min: 0.1,
      max: 20,
      style: "width:64px",
      title: "times as far as usual may its skin be stretched before trials mind it",
    }),
    button("Delete", () => b.step("regions.remove", { region: region.name }), "small quiet"),
  );
}

/** Ask the server, and say what it refuses.  @returns {Promise<any>} */
export const asked = (path) => call("GET", path).catch(say);
