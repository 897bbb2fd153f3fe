// Weights of the chosen points as numbers, on the shelf: a cell is typed, a row copied and put on others.
import { enterSheet } from "../app/stations.js";
import { call } from "../net/api.js";
import { button, numberField } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { fullName, spaced } from "../words.js";

const MOST = 60; // points in the table

/** @type {Record<string, number> | null} */
let copied = null; // a row: joint → weight

function table(b) {
  const { rows, chosenPoints, rowSort } = b.ui;
  if (!chosenPoints.length)
    return h("p", { class: "why" }, "Choose points with the tool “Points”: their weights stand here as numbers.");
  if (!rows) return h("p", { class: "why" }, "…");
  const order = rows.points.map((_, i) => i);
  if (rowSort !== null && rowSort < rows.joints.length)
    order.sort((x, y) => rows.rows[y][rowSort] - rows.rows[x][rowSort]);
  const few = order.slice(0, MOST);
  return h(
    "div",
    { class: "weights-table", onkeydown: walk },
    h(
      "div",
      { class: "acts" },
      h("span", { class: "soft" }, `${spaced(rows.count)} points, ${rows.joints.length} joints`),
      button(
        "Put the copied row on all",
        () => copied && b.step("skin.row", { points: chosenPoints, held: copied }),
        "small",
        { disabled: !copied },
      ),
    ),
    h(
      "table",
      {},
      head(b, rows),
      h(
        "tbody",
        {},
        few.map((i) => line(b, rows, i)),
      ),
    ),
    rows.count > few.length ? h("p", { class: "soft" }, `The first ${few.length} of ${spaced(rows.count)}.`) : null,
  );
}

const head = (b, rows) =>
  h(
    "thead",
    {},
    h(
      "tr",
      {},
      h("th", {}, "point"),
      rows.joints.map((n, k) =>
        h(
          "th",
          { key: n, "aria-sort": b.ui.rowSort === k ? "descending" : undefined },
          button(fullName(n), () => sortBy(b, k), "small quiet", { title: `Sort by ${fullName(n)}` }),
        ),
      ),
      h("th", {}),
    ),
  );

function line(b, rows, i) {
  const held = Object.fromEntries(rows.joints.map((n, k) => [n, rows.rows[i][k]]).filter(([, w]) => w > 0));
  const cell = (name, k) => {
    const put = (w) =>
      b.step("skin.hold", { points: [rows.points[i]], joint: name, weight: Math.min(Math.max(w, 0), 1) });
    const label = `${fullName(name)} of point ${rows.points[i]}`,
      how = { step: 0.01, min: 0, max: 1, "data-cell": `${i} ${k}` };
    return h("td", { key: k }, numberField(label, rows.rows[i][k].toFixed(3), put, how));
  };
  const copy = () => {
    copied = held;
    b.touch("tool");
  };
  return h(
    "tr",
    { key: rows.points[i] },
    h("th", { scope: "row" }, spaced(rows.points[i])),
    rows.joints.map(cell),
    h("td", {}, button("Copy", copy, "small quiet", { title: "Copy this row" })),
  );
}

function sortBy(b, k) {
  b.ui.rowSort = b.ui.rowSort === k ? null : k;
}

/** Enter and the arrows up and down go on to the next row's cell. */
function walk(e) {
  const at = e.target.dataset?.cell;
  if (!at || !["Enter", "ArrowUp", "ArrowDown"].includes(e.key)) return;
  e.preventDefault();
  const column = at.split(" ")[1],
    cells = [...e.currentTarget.querySelectorAll(`[data-cell$=" ${column}"]`)],
    next = cells[cells.indexOf(e.target) + (e.key === "ArrowUp" ? -1 : 1)];
  e.target.dispatchEvent(new Event("change", { bubbles: true }));
  next?.focus();
  next?.select();
}

/** The rows of what is chosen, as they are now. */
export async function loadRows(b) {
  const points = b.ui.chosenPoints;
  if (!points.length || !b.state.skin) {
    b.ui.rows = null;
    return;
  }
  try {
    const rows = await call("POST", `/api/c/${b.number}/skin/rows`, { points });
    if (points === b.ui.chosenPoints) b.ui.rows = rows;
  } catch (error) {
    say(error);
  }
}

enterSheet("skin", { id: "table", side: "shelf", title: "Table", high: 230, draw: table });
