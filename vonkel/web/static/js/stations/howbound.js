// How binding fills this body, what finer cells cost and gain, and where poses made it ease.
import { acts, button, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { inWords, spaced } from "../words.js";
import { findOut } from "./common.js";
import { showMap } from "./skinmaps.js";

export const howBoundFields = { howBound: null, howBoundAt: 0 };

const look = (b) => findOut(b, "skin/binding", "howBound");

const percent = (share) => `${(100 * share).toFixed(share > 0 && share < 0.01 ? 2 : 1)} %`;

function cellsRow(b, row, most) {
  const title = `${spaced(row.cells)} cells, each ${(1000 * row.edge).toFixed(1)} mm long`;
  const finest = row.otherwise === 0 && !row.chosen;
  const bare = row.over_none > 0 ? ` · ${percent(row.over_none)} over no cell` : "";
  return h(
    "div",
    { class: "fineness", key: row.cells, "data-cells": row.cells },
    h(
      "div",
      { class: "weights-row" },
      h("span", { title }, `${spaced(row.cells)}${row.chosen ? ", chosen" : ""}`),
      h("span", { class: "bar" }, h("i", { style: `width:${Math.max(2, (100 * row.otherwise) / (most || 1))}%` })),
      h("span", { class: "fig" }, finest ? "–" : percent(row.otherwise)),
    ),
    h(
      "div",
      { class: "fineness-more" },
      h("span", { class: "soft" }, `${(1000 * row.edge).toFixed(1)} mm · ${row.seconds.toFixed(1)} s${bare}`),
      row.chosen ? null : button("Bind so", () => bindSo(b, row), "small quiet"),
    ),
  );
}

const bindSo = (b, row) =>
  b.step("skin.bind", {
    cells: row.cells,
    influences: b.state.skin?.influences ?? 4,
    method: b.state.skin?.method ?? "dual",
    falloffs: b.ui.falloffs,
  });

function easing(b, how) {
  const at = how.poses.map((n) => `“${inWords(n)}”`).join(", ");
  if (!how.eased) return h("p", { class: "soft" }, "No ordinary pose stretches it so far that it had to be eased.");
  const torn = `Without, ${percent(how.torn)} of the edges would be more than twice as long in some pose`,
    eased = `eased, ${percent(how.torn_eased)} are`;
  const show = () => {
    b.ui.skinMap = b.ui.skinMap === "eased" ? "joint" : "eased";
    showMap(b);
  };
  return [
    h(
      "p",
      { class: "soft" },
      `${spaced(how.eased)} points are eased for ordinary poses${at ? `, most for ${at}` : ""}.`,
    ),
    how.torn > 0 ? h("p", { class: "soft" }, `${torn}; ${eased}.`) : null,
    b.state.skin ? acts(switchButton("Show where", b.ui.skinMap === "eased", show)) : null,
  ];
}

/** The list on the sheet. */
export function howBoundList(b) {
  const { howBound: how, howBoundAt } = b.ui,
    title = h("h3", {}, "What binding does here"),
    stale = how && howBoundAt !== b.position().step,
    again = (label) => acts(button(label, () => look(b), "small"));
  if (!how)
    return [
      title,
      h("p", { class: "soft" }, "The body is filled with cells; finer ones tell thin parts apart and take longer."),
      again("Try finer ones"),
    ];
  const most = Math.max(...how.fineness.map((f) => f.otherwise));
  const fewer = how.bound_by < how.points;
  return [
    title,
    stale ? [h("p", { class: "soft" }, "Before the last step."), again("Look again")] : null,
    fewer
      ? h(
          "p",
          { class: "soft" },
          `Bound by ${spaced(how.bound_by)} of ${spaced(how.points)} points, and carried to the others.`,
        )
      : null,
    h("p", { class: "soft" }, "Cells, and how much of the skin another bone has than with the finest:"),
    how.fineness.map((f) => cellsRow(b, f, most)),
    easing(b, how),
  ];
}
