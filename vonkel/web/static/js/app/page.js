// The page round the plate: head, sheets, dock, foot and what lies over the plate follow what is in the store.
import { all, byId, h, Fragment, render } from "../widgets/html.js";
import { button, choices } from "../widgets/fields.js";
import { findingCards } from "../widgets/findings.js";
import { say } from "../widgets/toasts.js";
import { fullName, inWords, megabytes, spaced } from "../words.js";
import { call } from "../net/api.js";
import { dockButtons } from "./dock.js";
import { boardsOver } from "../stations/boards.js";
import { sheetsOf } from "./stations.js";

/** What changes often and reaches little. */
const FEW = { overName: ["foot-left"], job: ["job"], legend: ["legend"], strengths: ["right", "left", "boards"] };
const STRIP = 158; // pixels: how high the trial strip is

export class Page {
  constructor(bench) {
    this.bench = bench;
    this.regions = {
      left: () => left(bench),
      right: () => right(bench),
      dock: () => dockButtons(bench),
      legend: () => legend(bench),
      boards: () => boardsOver(bench),
      job: () => job(bench.job),
      strip: () => shelf(bench),
      "foot-left": () => footLeft(bench),
      "foot-right": () => footRight(bench.state.last),
    };
    bench.watch(null, (changed) => this.draw(changed));
    bench.ui.watch(null, () => this.draw());
    byId("hint-away").onclick = () => {
      bench.hinted = true;
    };
    byId("undo").onclick = () => bench.undo("undo");
    byId("redo").onclick = () => bench.undo("redo");
    byId("find").onclick = () => bench.finder.open();
    byId("ledger-open").onclick = () => bench.ledger.toggle();
    for (const a of all(".path a"))
      a.onclick = (e) => {
        e.preventDefault();
        bench.go(a.dataset.station);
      };
  }

  /** Draw what the changes reach.  @param {Set<string>} [changed] none: everything */
  draw(changed) {
    const { bench } = this;
    if (!bench.state) {
      render(job(bench.job), byId("job"));
      return;
    }
    const few = changed?.size === 1 ? FEW[[...changed][0]] : null;
    if (few) {
      for (const id of few) this.drawRegion(id);
      return;
    }
    this.heads();
    for (const id of Object.keys(this.regions)) this.drawRegion(id);
    bench.ledger.draw();
    byId("hint").hidden = !bench.hinting;
  }

  drawRegion(id) {
    const box = byId(id),
      drawn = this.regions[id]();
    if (box.dataset.away !== undefined) box.hidden = !drawn;
    render(drawn, box);
  }

  heads() {
    const { state: s, station } = this.bench;
    byId("who-name").textContent = s.name;
    byId("who-about").textContent = [s.about, `${s.height.toFixed(2)} m tall`].filter(Boolean).join(" · ");
    for (const a of all(".path a")) {
      const key = a.dataset.station;
      const known = s.stations.find((x) => x.key === key) ?? { key, title: a.title, state: "", count: 0 };
      a.dataset.state = known.state;
      a.querySelector("b").textContent = known.count || "";
      a.setAttribute("aria-label", `${known.title}: ${known.state}${known.count ? `, ${known.count} findings` : ""}`);
      if (known.key === station) a.setAttribute("aria-current", "page");
      else a.removeAttribute("aria-current");
    }
    byId("ledger-count").textContent = s.steps;
    byId("undo").disabled = !s.can_undo;
    byId("redo").disabled = !s.can_redo;
  }
}

const added = (b, side) => sheetsOf(b.station, side).map((s) => h(Fragment, { key: s.id }, s.draw(b)));

/** The trial strip, or what else stands on the shelf; of several the one that is chosen. */
function shelf(b) {
  const strip = b.strip.view();
  const shelves = [
    ...(strip ? [{ id: "trials", title: "Trials", high: STRIP, draw: () => strip }] : []),
    ...sheetsOf(b.station, "shelf"),
  ];
  const shown = shelves.find((s) => s.id === b.ui.shelf) ?? shelves[0];
  const choose = (id) => {
    b.ui.shelf = id;
  };
  byId("strip").style.height = `${shown?.high ?? STRIP}px`;
  if (!shown) return null;
  const titles = Object.fromEntries(shelves.map((s) => [s.id, s.title ?? s.id]));
  return [
    shelves.length > 1 ? h("div", { class: "shelf-tabs", key: "tabs" }, choices(titles, shown.id, choose)) : null,
    h(Fragment, { key: shown.id }, shown.draw(b)),
  ];
}

const left = (b) => h(Fragment, { key: b.station }, b.kind.left(b), added(b, "left"));

function right(b) {
  if (b.tool)
    return h(
      Fragment,
      { key: `tool ${b.tool.name}` },
      h(
        "section",
        { class: "tool" },
        toolHead(b),
        b.tool.hint ? h("p", { class: "soft" }, b.tool.hint) : null,
        b.tool.panel(b),
      ),
      findingCards(b, b.station),
    );
  return h(Fragment, { key: b.station }, b.kind.right(b), added(b, "right"), findingCards(b, b.station));
}

const toolHead = (b) =>
  h(
    "h2",
    {},
    b.tool.title,
    button("Done", () => b.useTool(null), "small quiet", { title: "Put the tool down (Esc)" }),
  );

const SMOOTHED = { posed: ", smoothed", beforehand: ", evened beforehand" };
const BLENDS = { dual: "dual quaternion", linear: "linear", mixed: "blended" };

/** Whether what goes out is what is worked with. */
const alike = (skin) => skin.method === "linear" && !skin.smoothing;

/** Which skin is on the plate: what is worked with, or what goes out. */
function whichSkin(b) {
  const { skin } = b.state;
  if (!skin || b.kind.rest) return null;
  if (alike(skin)) return "linear skin, live and handed over";
  const between = skin.fresh ? skin.handed.between.length : 0;
  if (b.over && skin.fresh) return `as handed over: linear skin, ${between} joints between`;
  return b.over
    ? "as handed over: linear skin"
    : `live: ${BLENDS[skin.method]} skin${skin.smoothing ? SMOOTHED[skin.smoother] : ""}`;
}

/** What the legend says of the skin, and of the line over it. */
function skinWords(b) {
  const which = whichSkin(b);
  if (!which) return null;
  const line = b.over && b.wanted && !alike(b.state.skin);
  return [
    h("div", { class: "which" }, which),
    line ? h("div", { class: "which live-line" }, "the live skin, where it is elsewhere") : null,
  ];
}

function legend(b) {
  const said = b.legend,
    which = skinWords(b);
  if (!said) return which;
  if (said.plain) return [h("div", {}, said.title), which];
  const labels = said.labels ?? ["0", "¼", "½", "¾", "1"],
    words = labels.map((x) => h("span", {}, x)),
    ends = labels.slice(1, -1).every((x) => !x), // only at both ends is something said: beside the ramp
    ramp = h("div", { class: "ramp" });
  return [
    h("div", {}, said.title),
    ends ? h("div", { class: "ticks" }, words[0], ramp, words.at(-1)) : [ramp, h("div", { class: "ticks" }, words)],
    which,
  ];
}

function job(now) {
  if (!now) return null;
  const share = Math.round(100 * now.share);
  return [
    h("span", {}, now.doing ? `${now.title}: ${now.doing}` : now.title),
    h(
      "div",
      {
        class: "progress",
        role: "progressbar",
        "aria-label": now.title,
        "aria-valuenow": share,
        "aria-valuemin": 0,
        "aria-valuemax": 100,
      },
      h("div", { class: "progress-bar", style: `width:${share}%` }),
    ),
    button("Stop", () => call("POST", `/api/jobs/${now.id}/stop`).catch(say), "small quiet"),
  ];
}

function footLeft(b) {
  const s = b.state;
  const posed = b.trial
    ? `Trying: ${b.trial}`
    : Object.keys(b.values).length
      ? `Posed: ${inWords(s.pose.label || "by hand")}`
      : "At rest";
  return [
    posed,
    `${s.counts.joints} joints · ${spaced(s.counts.points)} points`,
    `store ${megabytes(s.store_bytes)}`,
    fullName(b.overName),
  ]
    .filter(Boolean)
    .join("   ·   ");
}

const footRight = (last) => (last ? `Saved · step ${last.number}: “${inWords(last.sentence)}”` : "");
