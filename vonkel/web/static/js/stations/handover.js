// Handover: what goes out, and as what.
import { h, spaced } from "../dom.js";
import { pairs } from "./common.js";

/** What the character can be written as, by the endings that the server knows. */
function exportButton(b, { ending, about, renames }) {
  const names = renames && b.exportNames ? `?names=${encodeURIComponent(b.exportNames)}` : "";
  const href = `/api/c/${b.number}/export${ending}${names}`;
  return h("a", { class: "btn", href, download: "", title: about, id: `export-${ending.slice(1)}` }, `As ${ending}`);
}

export const handover = {
  enter: (b) => b.loadFormats(),
  large: "free",
  shading: "colours",
  left: (b) => [
    h("h2", {}, "What goes out"),
    pairs(
      ...Object.entries({
        points: "points",
        faces: "faces",
        parts: "parts",
        joints: "joints",
        deforming_joints: "of them deform",
        controls: "controls",
        shapes: "shapes",
        influences: "influences",
      }).map(([k, t]) => [t, h("span", { class: "fig" }, spaced(b.state.counts[k]))]),
    ),
  ],
  right: (b) => [
    h("h2", {}, "Handover"),
    h(
      "p",
      {},
      "The .glb holds the mesh in its point order, joints, linear skin weights, shapes, motions and the rest pose. " +
        "An animator's program will deform it as the linear skin here does; the trials say how far the live skin is " +
        "from that.",
    ),
    h(
      "div",
      { class: "acts" },
      ...(b.formats ?? []).filter((f) => f.writes).map((f) => exportButton(b, f)),
      h("a", { class: "btn", href: `/api/c/${b.number}/report.json`, download: "" }, "Report"),
      h("a", { class: "btn", href: `/api/c/${b.number}/recipe.json`, download: "" }, "Recipe"),
      h("a", { class: "btn", href: `/api/c/${b.number}/export.vonkel`, download: "" }, "Whole character"),
    ),
    h("h3", {}, "Joint names in the .glb"),
    h(
      "select",
      {
        "aria-label": "Joint names in the export",
        onchange: (e) => {
          b.exportNames = e.target.value;
          b.sheets();
        },
      },
      Object.entries({
        "": "as here",
        hanim: "humanoid standard (ISO/IEC 19774)",
        "{side}_{part}{n}": "L_part1",
        "{Side} {part} {n}": "left part 1",
      }).map(([k, t]) => h("option", { value: k, selected: (b.exportNames ?? "") === k }, t)),
    ),
  ],
};
