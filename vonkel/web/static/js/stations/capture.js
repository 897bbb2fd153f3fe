// A motion from a file: its skeleton drawn, its joints matched with ours, doubtful ones first; then it is played on
// the rig.
import { call } from "../net/api.js";
import { acts, button, select, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { fullName } from "../words.js";

const HIGH = 196,
  WIDE = 150;
const SURE = 0.9;

/** Look at a file: what its skeleton is, and what matches.  @param {any} b @param {File} file */
async function look(b, file) {
  const form = new FormData();
  form.append("file", file);
  try {
    const told = await call("POST", `/api/c/${b.number}/capture/look`, form);
    b.ui.capture = { file, ...told, chosen: Object.fromEntries(told.matches.map((m) => [m.joint, m.source])) };
  } catch (error) {
    say(error);
  }
}

async function play(b) {
  const { file, chosen } = b.ui.capture,
    form = new FormData();
  form.append("file", file);
  form.append("matches", JSON.stringify(chosen));
  form.append("plant", b.ui.plant);
  form.append("travel", b.ui.travel);
  form.append("step", b.position().step);
  const before = new Set(b.state.clips.map((c) => c.name));
  try {
    const { job } = await call("POST", `/api/c/${b.number}/capture/bring`, form);
    await b.watchJob(job);
    await b.refresh({ keepPose: true });
    b.clip = b.state.clips.find((c) => !before.has(c.name))?.name ?? b.clip;
    b.clipFrame = 0;
    b.ui.keyView = null;
    b.ui.shelf = "keys";
    b.playClip(true);
  } catch (error) {
    await b.failed(error);
  }
}

/** The other skeleton at rest, from the front or the side: what is matched is full, what is looked at in ember. */
function drawing(b, axis, label) {
  const { joints, chosen } = b.ui.capture,
    used = new Set(Object.values(chosen)),
    over = b.ui.captureOver;
  const at = joints.map((j) => [axis ? j.place[2] : j.place[0], j.place[1]]),
    span = (k) => [Math.min(...at.map((p) => p[k])), Math.max(...at.map((p) => p[k]))];
  const [[x0, x1], [y0, y1]] = [span(0), span(1)],
    of = Math.min((WIDE - 20) / Math.max(x1 - x0, 0.3), (HIGH - 24) / Math.max(y1 - y0, 0.3));
  const place = ([x, y]) => [WIDE / 2 + (x - (x0 + x1) / 2) * of, HIGH - 8 - (y - y0) * of];
  return h(
    "svg",
    { viewBox: `0 0 ${WIDE} ${HIGH}`, width: WIDE, height: HIGH, class: "stick", role: "img", "aria-label": label },
    joints.map((j, i) => {
      if (j.parent < 0) return null;
      const [a, c] = [place(at[j.parent]), place(at[i])];
      return h("line", { key: j.name, x1: a[0], y1: a[1], x2: c[0], y2: c[1] });
    }),
    joints.map((j, i) => {
      const [x, y] = place(at[i]);
      const kind = j.name === over ? "over" : used.has(j.name) ? "used" : "";
      return h(
        "circle",
        { key: j.name, cx: x, cy: y, r: j.name === over ? 5 : 2.6, class: kind },
        h("title", {}, j.name),
      );
    }),
    over ? h("text", { x: 4, y: 12 }, over) : null,
  );
}

function matchRow(b, m) {
  const { chosen, joints } = b.ui.capture,
    now = chosen[m.joint] ?? "";
  const doubtful = now !== m.source ? "settled" : !now ? "none" : m.sure < SURE ? "doubtful" : "sure";
  const words = { settled: "by hand", none: "none", doubtful: "look here", sure: "" };
  const take = (source) => {
    b.ui.capture = { ...b.ui.capture, chosen: { ...chosen, [m.joint]: source } };
    b.ui.captureOver = source;
  };
  const names = [["", "—"], ...joints.map((j) => [j.name, j.name])];
  const over = () => {
    b.ui.captureOver = now;
    b.plate.selected = { joint: m.joint, control: "" };
    b.look();
  };
  return h(
    "label",
    { key: m.joint, class: `match ${doubtful}`, onpointerenter: over, onfocusin: over },
    h("span", {}, fullName(m.joint)),
    select(`What leads ${fullName(m.joint)}`, names, now, take, { "data-match": m.joint }),
    h("small", {}, words[doubtful]),
  );
}

const FIRST = { none: 1, doubtful: 0, sure: 2 };
const rank = (m) => FIRST[!m.source ? "none" : m.sure < SURE ? "doubtful" : "sure"];

/** The file button and, once one was looked at, what is which. */
export function captureShelf(b) {
  const bring = (e) => {
    const [file] = e.target.files;
    e.target.value = "";
    if (file) look(b, file);
  };
  const choose = h(
    "label",
    { class: "btn btn-sm btn-plain" },
    b.ui.capture ? "Another file" : "Choose a file (.bvh)",
    h("input", {
      type: "file",
      accept: ".bvh",
      class: "visually-hidden",
      "aria-label": "Motion file",
      onchange: bring,
    }),
  );
  const c = b.ui.capture;
  if (!c)
    return h(
      "div",
      { class: "capture" },
      h("div", {}, h("p", {}, "A motion that was recorded on another skeleton, played on this rig."), choose),
    );
  const frames = `${c.frames} frames, ${c.rate} a second`;
  return h(
    "div",
    { class: "capture" },
    h(
      "div",
      { class: "about" },
      h("strong", {}, c.file.name),
      h("p", { class: "soft" }, frames),
      c.notes.map((n) => h("p", { class: "soft", key: n }, n)),
      switchButton("Feet stay", b.ui.plant, () => (b.ui.plant = !b.ui.plant), "Feet that stand there stand here"),
      switchButton("Goes along", b.ui.travel, () => (b.ui.travel = !b.ui.travel), "It goes where that one goes"),
      acts(
        button("Play it on the rig", () => play(b), "small mend"),
        choose,
      ),
    ),
    drawing(b, 0, "The other skeleton from the front"),
    drawing(b, 1, "The other skeleton from its left"),
    h(
      "div",
      { class: "matches" },
      [...c.matches].sort((p, q) => rank(p) - rank(q)).map((m) => matchRow(b, m)),
    ),
  );
}

/** What it keeps while the page is open. */
export const captureFields = { capture: null, captureOver: "", plant: true, travel: true };
