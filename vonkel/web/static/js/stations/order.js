// The order: the whole rig as a list to be read from top to bottom, with what each line costs; lines can be left out to
// see what they do.
import { call } from "../net/api.js";
import { acts, button, fold, tick } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { inWords, plainName } from "../words.js";

const WIDE = 44; // pixels of the bar of the dearest group
const SHORT = 3; // slots that are named

/** What this page keeps in the store. */
export const orderFields = { order: { at: "", rows: null }, openGroups: new Set() };

async function load(b) {
  const at = `${b.number}/${b.position().step}`;
  if (b.ui.order.at === at) return;
  b.ui.order = { at, rows: b.ui.order.rows };
  try {
    const { operations } = await call("GET", `/api/c/${b.number}/order`);
    if (b.ui.order.at === at) b.ui.order = { at, rows: operations };
  } catch (error) {
    say(error);
  }
}

/** Runs of operations of one group. */
function runs(rows) {
  const out = [];
  for (const r of rows) {
    if (out.at(-1)?.group === r.group) out.at(-1).rows.push(r);
    else out.push({ group: r.group, kind: r.kind, rows: [r] });
  }
  return out;
}

/** A group's name with the tag of its side. */
function sided(b, name) {
  const kit = b.state.kits.find((k) => k.name === name);
  return [kit ? tag(kit.side) : null, h("span", {}, plainName(name))];
}

const micro = (n) => (n >= 1000 ? `${(n / 1000).toFixed(2)} ms` : `${n.toFixed(0)} µs`);

const costOf = (group) => group.rows.reduce((sum, r) => sum + r.micros, 0);

export function orderSheet(b) {
  load(b);
  const { rows } = b.ui.order;
  if (!rows) return [h("h2", {}, "Order of solving"), h("p", { class: "soft" }, "Reading the rig …")];
  const groups = runs(rows),
    total = rows.reduce((a, r) => a + r.micros, 0),
    most = Math.max(...groups.map(costOf));
  const seen = new Set();
  const said =
    `${rows.length} lines, ${micro(total)} for all of them. ` +
    "Untick a line to see what it does; that is for looking only.";
  return [
    h("h2", {}, "Order of solving"),
    h("p", { class: "soft" }, said),
    b.off.size ? allOn(b) : null,
    groups.map((g, i) => {
      const again = seen.has(g.group);
      seen.add(g.group);
      return groupRow(b, g, i, { again, most });
    }),
  ];
}

function setOff(b, off) {
  b.off = off;
  b.pose();
}

const allOn = (b) => acts(button(`Switch all ${b.off.size} on again`, () => setOff(b, new Set()), "mend small"));

/** What one kit or rule does, line by line; again: it stood farther up already. */
function groupRow(b, g, i, { again, most }) {
  const cost = costOf(g),
    key = `${i}-${g.group}`,
    { openGroups } = b.ui;
  const move = (words, to) => button(words, () => b.step("rules.order", { group: g.group, to }), "small quiet");
  const turn = (on) => b.ui.put("openGroups", key, on);
  const title = [
    h("span", { class: "fig soft" }, `${i + 1} `),
    sided(b, g.group),
    again ? h("span", { class: "soft" }, " again") : null,
  ];
  const beside = h(
    "span",
    { class: "cost" },
    h("i", { style: `width:${Math.max(2, (WIDE * cost) / most)}px` }),
    h("span", { class: "fig" }, micro(cost)),
  );
  return fold(
    { key, title, beside, open: openGroups.has(key), act: turn, kind: "order", more: { key, title: g.kind } },
    acts(move("Earlier", "up"), move("Later", "down")),
    h(
      "ul",
      { class: "lines" },
      g.rows.map((r, k) => lineRow(b, r, k)),
    ),
  );
}

function lineRow(b, r, k) {
  const flip = (on) => {
    const off = new Set(b.off);
    if (on) off.delete(r.sentence);
    else off.add(r.sentence);
    setOff(b, off);
  };
  const from = r.reads.length ? ` from ${short(r.reads)}` : "",
    said = `${r.amends ? "changes" : "writes"} ${short(r.writes)}${from} · ${micro(r.micros)}`;
  return h(
    "li",
    { key: k, title: inWords(`reads ${r.reads.join(", ") || "nothing"}; writes ${r.writes.join(", ")}`) },
    h("label", {}, tick(r.sentence, !b.off.has(r.sentence), flip), ` ${inWords(r.sentence)}`),
    h("span", { class: "soft small" }, said),
  );
}

const short = (words) =>
  inWords(words.slice(0, SHORT).join(", ") + (words.length > SHORT ? ` and ${words.length - SHORT} more` : ""));
