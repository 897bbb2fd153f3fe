// The order: the whole rig as a list to be read from top to bottom, with what each line costs; lines can be left out to
// see what they do.
import { call, h, inWords, plainName, say, tag } from "../dom.js";
import { button } from "./common.js";

async function load(b) {
  const at = `${b.number}/${b.position().step}`;
  if (b.orderAt === at || b.orderLoading === at) return;
  b.orderLoading = at;
  try {
    b.orderRows = (await call("GET", `/api/c/${b.number}/order`)).operations;
    b.orderAt = at;
  } catch (error) {
    say(error);
  }
  b.orderLoading = "";
  if (b.rigView === "order") b.sheets();
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
  const rows = b.orderRows;
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
    ...groups.map((g, i) => {
      const again = seen.has(g.group);
      seen.add(g.group);
      return groupRow(b, g, i, { again, most });
    }),
  ].filter(Boolean);
}

function allOn(b) {
  const act = () => {
    b.off.clear();
    b.pose();
    b.sheets();
  };
  return h("div", { class: "acts" }, button(`Switch all ${b.off.size} on again`, act, "mend small"));
}

/** What one kit or rule does, line by line; again: it stood farther up already. */
function groupRow(b, g, i, { again, most }) {
  const cost = costOf(g),
    key = `${i}-${g.group}`;
  const move = (words, to) => button(words, () => b.step("rules.order", { group: g.group, to }), "small quiet");
  const open = {
    class: "fold order",
    open: b.openGroups.has(key),
    ontoggle: (e) => {
      if (e.target.open) b.openGroups.add(key);
      else b.openGroups.delete(key);
    },
  };
  return h(
    "details",
    open,
    h(
      "summary",
      { title: g.kind },
      h("span", { class: "fig soft" }, `${i + 1} `),
      sided(b, g.group),
      again ? h("span", { class: "soft" }, " again") : null,
      h(
        "span",
        { class: "cost" },
        h("i", { style: `width:${Math.max(2, (44 * cost) / most)}px` }),
        h("span", { class: "fig" }, micro(cost)),
      ),
    ),
    h("div", { class: "acts" }, move("Earlier", "up"), move("Later", "down")),
    h(
      "ul",
      { class: "lines" },
      g.rows.map((r) => lineRow(b, r)),
    ),
  );
}

function lineRow(b, r) {
  const tick = (e) => {
    if (e.target.checked) b.off.delete(r.sentence);
    else b.off.add(r.sentence);
    b.pose();
    b.sheets();
  };
  const box = { type: "checkbox", checked: !b.off.has(r.sentence), "aria-label": r.sentence, onchange: tick };
  const from = r.reads.length ? ` from ${short(r.reads)}` : "";
  return h(
    "li",
    { title: inWords(`reads ${r.reads.join(", ") || "nothing"}; writes ${r.writes.join(", ")}`) },
    h("label", {}, h("input", box), ` ${inWords(r.sentence)}`),
    h(
      "span",
      { class: "soft small" },
      `${r.amends ? "changes" : "writes"} ${short(r.writes)}${from} · ${micro(r.micros)}`,
    ),
  );
}

const short = (words) =>
  inWords(words.slice(0, 3).join(", ") + (words.length > 3 ? ` and ${words.length - 3} more` : ""));
