// Two states card by card: what became worse or better, with both pictures side by side.
import { call } from "../net/api.js";
import { acts, button, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { modal } from "../widgets/modal.js";
import { say } from "../widgets/toasts.js";
import { fullName, inWords } from "../words.js";
import { folded } from "./common.js";

const WAYS = { volume: "bound through the volume", nearest: "bound by the nearest bone", heat: "bound by heat" };
const TITLE = "Compare two states";
const MOST = 3; // measures that are said of a card

/** The states that may be compared: milestones, and steps of the ledger. */
async function look(b) {
  b.ui.compareOf = b.position().step;
  try {
    const { rows, milestones } = await call("GET", `/api/c/${b.number}/ledger`);
    const marks = milestones.map((m) => [m.step, `“${m.name}”`]),
      rest = rows.filter((s) => !s.undone).map((s) => [s.id, `${s.number} · ${inWords(s.sentence)}`.slice(0, 60)]);
    b.ui.compareStates = [...marks, ...rest.reverse()];
  } catch (error) {
    say(error);
  }
}

async function run(b, a, other) {
  const here = b.position().step;
  const body = WAYS[other] ? { a, b: here, bind: { by: other } } : { a, b: Number(other) || here };
  try {
    const { job } = await call("POST", `/api/c/${b.number}/trials-compared`, body);
    const { result } = await b.watchJob(job);
    show(b, result);
  } catch (error) {
    await b.failed(error);
  }
}

const percent = (v) => `${Math.round(100 * v)} %`;
const signed = (v) => `${v > 0 ? "+" : "−"}${Math.abs(Math.round(100 * v))} %`;

function side(card, name) {
  return h(
    "div",
    { class: "compared-side" },
    h("img", { src: `data:image/png;base64,${card.picture}`, alt: name }),
    h("span", { class: `grade ${card.grade}` }, card.grade),
    h("small", {}, `${percent(card.badness)} · ${inWords(card.worst)}`),
  );
}

function row(b, r, close) {
  const go = () => {
    close();
    b.strip.go({ name: r.name });
  };
  const told = r.measures.slice(0, MOST).map((m) => `${m.title} ${signed(m.change)}`);
  const kind = r.change > 0.02 ? "worse" : r.change < -0.02 ? "better" : "";
  return h(
    "article",
    { key: r.name, class: `compared ${kind}`, "data-compared": r.name },
    h("h3", {}, button(fullName(r.name), go, "small quiet"), h("span", { class: "fig" }, signed(r.change))),
    h("div", { class: "two" }, side(r.before, `${r.name} before`), side(r.after, `${r.name} after`)),
    h("p", { class: "soft" }, told.join(" · ") || "as it was"),
  );
}

function show(b, found) {
  const box = modal("compare", "Card by card");
  const alone = [
    found.only_before.length ? `Only before: ${found.only_before.join(", ")}.` : "",
    found.only_after.length ? `Only after: ${found.only_after.join(", ")}.` : "",
  ].filter(Boolean);
  box.show([
    h("p", {}, `${found.worse} worse, ${found.better} better, of ${found.rows.length}; shares of what would pass.`),
    alone.map((line) => h("p", { class: "soft", key: line }, line)),
    h(
      "div",
      { class: "compared-all" },
      found.rows.map((r) => row(b, r, box.hide)),
    ),
  ]);
}

export function cardCompare(b) {
  const { compareStates: states } = b.ui;
  if (!b.state.skin) return null;
  if (b.ui.open.has(TITLE) && b.ui.compareOf !== b.position().step) look(b);
  const now = [["", "as it is now"], ...Object.entries(WAYS), ...(states ?? [])];
  const a = Number(b.ui.compareA || states?.[0]?.[0] || 0);
  return folded(
    b,
    TITLE,
    pairs(
      ["before", select("The state before", states ?? [], a, (v) => (b.ui.compareA = v))],
      ["after", select("The state after", now, b.ui.compareB, (v) => (b.ui.compareB = v))],
    ),
    acts(button("Card by card", () => run(b, a, b.ui.compareB), "small mend")),
  );
}

/** What it keeps while the page is open. */
export const compareFields = { compareStates: null, compareOf: 0, compareA: "", compareB: "" };
