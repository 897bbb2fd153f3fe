// The marks of a face: their list, doubtful ones first, and what each decides on this very head.
import { bytes } from "../net/api.js";
import { acts, button, pairs, tick } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { cm } from "../words.js";

/** The chosen mark, as the state has it. */
export const chosenMark = (b) => b.state.face.marks.find((m) => m.name === b.ui.mark);

/** Choose a mark: the mesh shows what hangs on it. */
export function chooseMark(b, name, redraw = true) {
  b.ui.mark = name;
  if (redraw) b.tool?.pick?.();
  showMarkMap(b);
}

/** Colour the mesh by what the chosen mark decides, or not at all. */
export async function showMarkMap(b) {
  const mark = chosenMark(b);
  if (!mark || b.station !== "face") {
    b.plate.setValues(null, "colours");
    b.legend = null;
    return;
  }
  try {
    const values = new Float32Array(await bytes(`/api/c/${b.number}/face/map?mark=${mark.name}`));
    if (b.station !== "face" || b.ui.mark !== mark.name) return;
    b.plate.setValues(values);
    b.legend = { title: `what the ${mark.label} decides`, labels: ["nothing", "", "all"] };
  } catch (error) {
    say(error);
  }
}

const sureness = (m) => (m.settled ? "by hand" : m.doubtful ? "look here" : "sure");

/** One row for both sides of a pair that goes together. */
const single = (m) => !(m.side === "R" && m.partner && m.linked);

function row(b, m) {
  const chosen = !!b.ui.mark && [m.name, m.linked ? m.partner : m.name].includes(b.ui.mark);
  return h(
    "li",
    { key: m.name },
    h(
      "button",
      {
        type: "button",
        class: `mark-row${chosen ? " chosen" : ""}${m.doubtful ? " asks" : ""}`,
        "aria-pressed": String(chosen),
        onclick: () => chooseMark(b, chosen ? "" : m.name),
      },
      tag(m.side),
      m.partner && m.linked ? tag("R") : null,
      h("span", { class: "mark-name" }, m.label),
      h("span", { class: "mark-sure" }, sureness(m)),
    ),
  );
}

/** Doubtful ones first; the rest fold away under them. */
export function markList(b) {
  const { marks } = b.state.face,
    doubtful = marks.filter((m) => m.doubtful),
    rest = marks.filter((m) => !m.doubtful);
  return [
    doubtful.length
      ? h("p", {}, `${doubtful.length} of ${marks.length} marks want a look:`)
      : h("p", {}, `All ${marks.length} marks are sure, or were put by hand.`),
    h(
      "ul",
      { class: "marks" },
      doubtful.filter(single).map((m) => row(b, m)),
    ),
    doubtful.length
      ? acts(
          button("They are right", () =>
            b.step("face.accept", { marks: doubtful.map((m) => m.name) }, { quiet: true, keepPose: true }),
          ),
        )
      : null,
    h(
      "details",
      { class: "marks-rest" },
      h("summary", {}, `${rest.length} that are sure`),
      h(
        "ul",
        { class: "marks" },
        rest.filter(single).map((m) => row(b, m)),
      ),
    ),
  ];
}

/** What is known of the chosen mark, and what can be done with it. */
export function markSheet(b) {
  const m = chosenMark(b);
  if (!m)
    return h(
      "p",
      { class: "empty" },
      "Click a mark in the list: the head shows what hangs on it. Drag one to move it.",
    );
  const both = m.partner && m.linked ? [m.name, m.partner] : [m.name];
  const quiet = { quiet: true, keepPose: true };
  return [
    h("h3", {}, tag(m.side), ` ${m.label}`),
    h("p", {}, m.decides),
    pairs(
      ["found", m.how || "by hand"],
      ["sure", h("span", { class: "fig" }, m.settled ? "put by hand" : `${Math.round(100 * m.sure)} %`)],
      [
        "at",
        h("span", { class: "fig" }, `${cm(m.place[0])}, ${cm(m.place[1] - b.state.low[1])}, ${cm(m.place[2])} cm`),
      ],
    ),
    m.partner
      ? h(
          "label",
          { class: "ticked" },
          tick("goes with its partner", m.linked, (on) => b.step("face.link", { mark: m.name, linked: on }, quiet)),
          " goes with its partner on the other side",
        )
      : null,
    acts(
      m.settled ? null : button("It is right", () => b.step("face.accept", { marks: both }, quiet), "small mend"),
      button("It has none", () => b.step("face.unmark", { marks: both }, quiet), "small quiet"),
    ),
  ];
}
