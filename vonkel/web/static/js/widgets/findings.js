// Findings as cards, each with its mend.
import { inWords } from "../words.js";
import { acts, button } from "./fields.js";
import { Fragment, h } from "./html.js";

/** The findings of a station. */
export function findingCards(bench, station) {
  const found = bench.state.findings.filter((f) => station === "handover" || f.station === station);
  const title = found.length && station === "handover" ? "All findings" : "Findings here";
  return h(
    Fragment,
    { key: "findings" },
    h("h3", {}, title),
    found.length ? found.map((f, i) => findingCard(bench, f, i)) : h("p", { class: "calm" }, "Nothing found."),
  );
}

function findingCard(bench, f, i) {
  const ways = [];
  if (f.mend) ways.push(button(inWords(f.mend.label), () => bench.step(f.mend.step, f.mend.params), "mend small"));
  if (f.joints.length || f.points.length) ways.push(button("Show", () => showFinding(bench, f), "small"));
  if (bench.station !== f.station) ways.push(button("Go there", () => bench.go(f.station), "small"));
  return h(
    "div",
    { class: `finding ${f.level}`, key: `${f.title} ${i}` },
    h("strong", {}, inWords(f.title)),
    f.detail ? h("p", {}, inWords(f.detail)) : null,
    ways.length ? acts(ways) : null,
  );
}

function showFinding(bench, f) {
  if (f.joints.length) bench.selectJoint(f.joints[0]);
  bench.plate.marked = f.points;
  if (f.points.length) bench.plate.lookAt(bench.plate.pointPlace(f.points[0]));
  bench.plate.draw();
}
