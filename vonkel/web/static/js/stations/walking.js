// Legs that step along a drawn path.
import { followed } from "../widgets/drag.js";
import { acts, button, form, own, pairs, select, slider, submit, tick } from "../widgets/fields.js";
import { h } from "../widgets/html.js";

const GAITS = ["walk", "trot", "pace", "amble", "tripod", "one after the other"];
const PAD = 132; // pixels of the path's sheet
const BUMPS = 16;

/** Metres that the path's sheet is wide: some figures long. */
const span = (b) => 6 * Math.max(b.state.height, 1e-3);
const pathOf = (b) => (b.ui.walkPath.length > 1 ? b.ui.walkPath : [[0, 0], [0, 0.5 * span(b)]]); // prettier-ignore

/** Seen from above, ahead is up: places are dragged, a click on the sheet adds one at the end. */
function pathPad(b) {
  const wide = span(b),
    x = (v) => PAD * (0.5 + v / wide),
    y = (v) => PAD * (0.86 - v / wide);
  const places = pathOf(b);
  const put = (e) => {
    const box = e.currentTarget.getBoundingClientRect(),
      px = ((e.clientX - box.left) * PAD) / box.width,
      py = ((e.clientY - box.top) * PAD) / box.height;
    const at = [(px / PAD - 0.5) * wide, (0.86 - py / PAD) * wide].map((v) => Number(v.toFixed(3)));
    b.ui.walkPath = b.ui.walkPath.length > 1 ? [...places, at] : [[0, 0], at];
  };
  const drag = (i) => (e) => {
    e.stopPropagation();
    const from = places[i];
    const to = ([dx, dy]) => {
      const at = [from[0] + (dx * wide) / PAD, from[1] - (dy * wide) / PAD].map((v) => Number(v.toFixed(3)));
      b.ui.walkPath = places.map((p, k) => (k === i ? at : p));
    };
    followed(e, to, PAD);
  };
  return h(
    "svg",
    { viewBox: `0 0 ${PAD} ${PAD}`, width: PAD, height: PAD, class: "path-pad", role: "group",
      "aria-label": "The way, from above: click to lead it on", onclick: put }, // prettier-ignore
    hills(b).map(([bx, bz, r], i) =>
      h("circle", { key: i, cx: x(bx), cy: y(bz), r: (PAD * r) / wide, class: "path-hill" }),
    ),
    h("polyline", { points: places.map((p) => `${x(p[0])},${y(p[1])}`).join(" "), class: "path-way" }),
    places.map(
      (p, i) =>
      h("circle", { key: i, cx: x(p[0]), cy: y(p[1]), r: 4, class: "path-place", "data-place": i,
        onpointerdown: drag(i), onclick: (e) => e.stopPropagation() }), // prettier-ignore
    ),
  );
}

/** Hills beside and on the way, as high as is asked for, the same ones each time. */
function hills(b) {
  const high = b.ui.walkRough / 100;
  if (!(high > 0)) return [];
  const places = pathOf(b),
    size = 0.14 * span(b);
  return Array.from({ length: BUMPS }, (_, i) => {
    const at = ((i + 0.5) / BUMPS) * (places.length - 1),
      k = Math.min(Math.floor(at), places.length - 2),
      [p, q] = [places[k], places[k + 1]];
    const off = size * 0.7 * Math.sin(2.4 * i);
    const place = [p[0] + (at - k) * (q[0] - p[0]) + off, p[1] + (at - k) * (q[1] - p[1])];
    return [...place, size * (0.4 + 0.3 * Math.sin(1.7 * i) ** 2), high * (0.5 + 0.5 * Math.cos(2.9 * i) ** 2)];
  });
}

/** What legs as many as these do: six or more go by threes. */
const usual = (b) => (b.state.kits.filter((k) => k.kind === "leg").length >= 6 ? "tripod" : "walk");

function walking(b) {
  const legs = b.state.controls.some((c) => c.key === "target");
  if (!legs) return h("p", { class: "soft" }, "Put legs on at the Limbs station: then they can step.");
  const make = async ({ gait, stride, lift, period }) => {
    const params = { gait, stride: stride / 100, lift: lift / 100, period, path: pathOf(b), bumps: hills(b),
      standing: b.ui.walkStanding }; // prettier-ignore
    const before = new Set(b.state.clips.map((c) => c.name));
    if (!(await b.step("motion.walk", params))) return false;
    b.clip = b.state.clips.find((c) => !before.has(c.name))?.name ?? b.clip;
    b.clipFrame = 0;
    b.ui.shelf = "keys";
    b.playClip(true);
    return true;
  };
  const take = (v) => {
    b.ui.walkGait = v;
  };
  const named = GAITS.map((g) => [g, g]);
  const gaits = select("Gait", named, b.ui.walkGait || usual(b), take, { name: "gait" });
  return form(
    make,
    pairs(
      ["gait", gaits],
      ["stride, cm", own.number("stride", "Stride in cm; 0: as the legs have it", 0, { min: 0, step: 1 })],
      ["lift, cm", own.number("lift", "Lift in cm; 0: as the legs have it", 0, { min: 0, step: 1 })],
      ["period, s", own.number("period", "Seconds from a step of a foot to its next", 1, { min: 0.1, step: 0.1 })],
      ["from standing", tick("From standing to standing", b.ui.walkStanding, (v) => (b.ui.walkStanding = v))],
    ), // prettier-ignore
    acts(submit("Let it go", "small mend")),
  );
}

/** The plate shows the ground while the walk is made, and while it is played. */
function showGround(b) {
  const ground = { hills: hills(b), path: pathOf(b), low: b.state.low[1] };
  if (JSON.stringify(ground) === JSON.stringify(b.plate.ground)) return;
  b.plate.ground = ground;
  b.plate.draw();
}

/** The whole of it: gait, way and ground. */
export function walkShelf(b) {
  showGround(b);
  const rough = slider("Height of the hills in cm", b.ui.walkRough, {
    low: 0,
    high: 12 * b.state.height,
    step: 0.5,
    oninput: (e) => (b.ui.walkRough = Number(e.target.value)),
  });
  return h(
    "div",
    { class: "walk-shelf", key: "walk" },
    h("section", {}, walking(b)),
    pathPad(b),
    h(
      "div",
      { class: "ways" },
      h("p", { class: "soft" }, "The way, seen from above. Click to lead it on, drag its places."),
      h("div", { class: "slider" }, h("span", {}, "hills, cm"), rough),
      acts(button("Straight again", () => (b.ui.walkPath = []), "small quiet")),
    ),
    air(b),
  );
}

/** Wings that beat and a wind that blows: rules of the rig, seen as soon as time goes by. */
function air(b) {
  const wings = b.state.kits.some((k) => k.kind === "wing"),
    springs = b.state.rules.some((r) => r.kind === "spring");
  const go = async (name, params) => {
    if (await b.step(name, params, { keepPose: true })) b.run(true);
    return false;
  };
  return h(
    "section",
    {},
    wings
      ? form(
          ({ rate }) => go("rules.beat", { rate }),
          acts(
            submit("Let the wings beat", "small"),
            own.number("rate", "Beats a second", 2, { step: 0.5, min: 0.1, style: "width:64px" }),
          ),
        )
      : null,
    springs
      ? form(
          ({ strength }) => go("rules.wind", { strength }),
          acts(
            submit("Let a wind blow", "small"),
            own.number("strength", "Wind in metres a second squared", 3, { step: 0.5, min: 0, style: "width:64px" }),
          ),
        )
      : h("p", { class: "soft" }, "What springs (see Rules at Limbs) feels a wind."),
    b.running ? acts(button("Stop it", () => b.run(false), "small")) : null,
  );
}

/** What it keeps while the page is open. */
export const walkFields = { walkPath: [], walkRough: 0, walkGait: "", walkStanding: true };
