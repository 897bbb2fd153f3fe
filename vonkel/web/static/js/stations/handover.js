// The Handover station: what goes out, and as what.
import { enterStation } from "../app/stations.js";
import { acts, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { spaced } from "../words.js";

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
const ABOUT =
  "The .glb holds the mesh in its point order, joints, linear skin weights, shapes, motions and the rest pose. " +
  "An animator's program will deform it as the linear skin here does; the trials say how far the live skin is " +
  "from that.";

const link = (href, words, more = {}) => h("a", { class: "btn btn-plain", href, download: "", ...more }, words);

/** What the character can be written as, by the endings that the server knows. */
function exportLink(b, { ending, about, renames }) {
  const names = renames && b.ui.exportNames ? `?names=${encodeURIComponent(b.ui.exportNames)}` : "";
  const href = `/api/c/${b.number}/export${ending}${names}`;
  return link(href, `As ${ending}`, { key: ending, title: about, id: `export-${ending.slice(1)}` });
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
    h("h3", {}, "Joint names in the .glb"),
    select("Joint names in the export", NAMES, b.ui.exportNames, set),
  ];
}

enterStation("handover", {
  large: "free",
  shading: () => "colours",
  fields: { exportNames: "" },
  enter: (b) => b.loadFormats().catch(say),
  left: (b) => [
    h("h2", {}, "What goes out"),
    pairs(...Object.entries(COUNTED).map(([k, t]) => [t, h("span", { class: "fig" }, spaced(b.state.counts[k]))])),
  ],
  right,
});
