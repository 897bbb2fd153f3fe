// The Handover station: what goes out, how near it is to what was judged, and as what.
import { enterStation } from "../app/stations.js";
import { acts, button, pairs, select, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { say } from "../widgets/toasts.js";
import { called, spaced } from "../words.js";

const COUNTED = {
  points: "points",
  faces: "faces",
  parts: "parts",
  joints: "joints",
  deforming_joints: "of them deform",
  controls: "controls",
  shapes: "shapes",
  influences: "influences",
};
const NAMES = {
  "": "as here",
  hanim: "humanoid standard (ISO/IEC 19774)",
  "{side}_{part}{n}": "L_part1",
  "{Side} {part} {n}": "left part 1",
};
const RATES = [
  ["", "motions at their own rate"],
  ...[24, 25, 30, 60].map((r) => [String(r), `motions at ${r} frames a second`]),
];
const ABOUT =
  "The .glb holds the mesh in its point order, joints, linear skin weights, shapes, motions and the rest pose. " +
  "An animator's program deforms it as the plate here does.";

const link = (href, words, more = {}) => h("a", { class: "btn btn-plain", href, download: "", ...more }, words);

/** What the character can be written as, by the endings that the server knows. */
function exportLink(b, { ending, about, renames }) {
  const asked = new URLSearchParams();
  if (renames && b.ui.exportNames) asked.set("names", b.ui.exportNames);
  if (renames && Number(b.ui.exportRate)) asked.set("rate", b.ui.exportRate);
  const href = `/api/c/${b.number}/export${ending}${asked.size ? `?${asked}` : ""}`;
  return link(href, `As ${ending}`, { key: ending, title: about, id: `export-${ending.slice(1)}` });
}

// -- the skin that goes out -------------------------------------------------------------------------------------------
function skinOut(b) {
  const { skin } = b.state;
  if (!skin) return h("p", { class: "empty" }, "There is no skin yet: the mesh goes out unbound.");
  const { handed } = skin,
    count = handed?.between.length ?? 0,
    targets = handed?.correctives.length ?? 0;
  const states = {
    none: "It goes out with its own weights, blended linearly: thinner where joints turn than what you see live.",
    stale: "The skin was changed since: until it is made again, it goes out as it is.",
    fresh: `Weights of its own, and ${count} joints between others that move half-way and swell${
      targets ? `; ${targets} targets put right what is left` : ""
    }.`,
  };
  const state = !handed ? "none" : skin.fresh ? "fresh" : "stale";
  return [
    h("p", {}, states[state]),
    stepForm(b, "handover.skin", {
      label: handed ? "Make it again" : "Make it come near",
      kind: state === "fresh" ? "small" : "mend",
      fields: { between: "joints between others, at most", influences: "influences a point" },
      beside: handed ? button("Go out as it is", () => b.step("handover.plain", {}), "small") : null,
    }),
    state === "fresh"
      ? stepForm(b, "handover.correctives", {
          label: targets ? "Put right again" : "Put right what is left",
          fields: { targets: "morph targets, at most" },
        })
      : null,
    switchButton(
      "Live outline",
      b.wanted,
      () => {
        b.wanted = !b.wanted;
        b.pose();
      },
      "Where the live skin would be, as a line over what goes out",
    ),
  ];
}

/** How far each pose that was tried is from the live skin. */
function remaining(b) {
  const { cards, fresh } = b.strip,
    mm = (v) => (1000 * v).toFixed(1);
  if (!b.state.skin) return null;
  const known = cards.filter((c) => c.live_gap_rms_m !== undefined).sort((x, y) => y.live_gap_rms_m - x.live_gap_rms_m);
  if (!known.length || !fresh)
    return [
      h("p", { class: "soft" }, "Run the trials, and how far each pose goes out from the live skin stands here."),
      acts(button("Run the trials", () => b.strip.run(), "small mend")),
    ];
  const row = (c) =>
    h(
      "tr",
      { key: c.name },
      h(
        "th",
        { scope: "row" },
        button(called(c), () => b.strip.go(c), "small quiet", { "aria-pressed": String(b.trial === c.name) }),
      ),
      [c.live_gap_rms_m, c.live_gap_99_m, c.live_to_linear_m].map((v, k) => h("td", { key: k, class: "fig" }, mm(v))),
    );
  return h(
    "table",
    { class: "gaps" },
    h(
      "thead",
      {},
      h(
        "tr",
        {},
        ["pose", "mean", "99 %", "most"].map((x) => h("th", { key: x }, x)),
      ),
    ),
    h("tbody", {}, known.map(row)),
  );
}

function right(b) {
  const own = (file, words) => link(`/api/c/${b.number}/${file}`, words);
  const set = (names) => {
    b.ui.exportNames = names;
  };
  return [
    h("h2", {}, "Handover"),
    h("p", {}, ABOUT),
    acts(
      (b.formats ?? []).filter((f) => f.writes).map((f) => exportLink(b, f)),
      own("report.json", "Report"),
      own("recipe.json", "Recipe"),
      own("export.vonkel", "Whole character"),
    ),
    h("h3", {}, "The skin that goes out"),
    skinOut(b),
    h("h3", {}, "Joint names in the .glb"),
    select("Joint names in the export", NAMES, b.ui.exportNames, set),
    b.state.clips.length
      ? select("Frames a second of motions in the export", RATES, b.ui.exportRate, (v) => (b.ui.exportRate = v))
      : null,
  ];
}

enterStation("handover", {
  large: "free",
  strip: true,
  over: true,
  shading: () => "colours",
  fields: { exportNames: "", exportRate: "" },
  enter: (b) => b.loadFormats().catch(say),
  left: (b) => [
    h("h2", {}, "What goes out"),
    pairs(...Object.entries(COUNTED).map(([k, t]) => [t, h("span", { class: "fig" }, spaced(b.state.counts[k]))])),
    b.state.skin ? [h("h3", {}, "From the live skin, mm"), remaining(b)] : null,
  ],
  right,
});
