// Speech: sounds typed, or from a timed file, laid out on a strip of time; their ends are dragged; then the face says
// them.
import { call } from "../net/api.js";
import { pulled } from "../widgets/drag.js";
import { acts, button, choices, form, own, submit, switchButton } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";

const HIGH = 64,
  LEAST = 0.02; // seconds that a sound lasts at least

async function lay(b, { text, each }) {
  if (!text.trim()) {
    toast("Type some sounds first, such as: h eh l ow");
    return false;
  }
  try {
    b.ui.sounds = await call("POST", "/api/speech/typed", { text, each });
  } catch (error) {
    say(error);
  }
  return false; // what was typed stays
}

async function bring(b, file) {
  const body = new FormData();
  body.append("file", file);
  try {
    b.ui.sounds = await call("POST", "/api/speech/timed", body);
  } catch (error) {
    say(error);
  }
}

async function speak(b) {
  const { sounds, speakBy, speakHeld } = b.ui,
    before = new Set(b.state.clips.map((c) => c.name));
  const params = {
    sounds: sounds.map(({ start, end, sound }) => ({ start, end, sound })),
    by: speakBy,
    held: speakHeld,
  };
  if (!(await b.step("motion.speak", params, { keepPose: true }))) return;
  b.clip = b.state.clips.find((c) => !before.has(c.name))?.name ?? b.clip;
  b.clipFrame = 0;
  b.playClip(true);
}

/** A sound's end goes along with the hand, and where it touches it the next one's beginning. */
function dragEnd(b, i, of) {
  return (e) => {
    const from = b.ui.sounds,
      next = from[i + 1],
      joined = next && Math.abs(next.start - from[i].end) < 1e-6;
    pulled(e, (dx) => {
      const most = joined ? next.end - LEAST : next ? next.start : Infinity;
      const end = Math.min(Math.max(from[i].end + dx / of, from[i].start + LEAST), most);
      b.ui.sounds = from.map((s, k) => (k === i ? { ...s, end } : joined && k === i + 1 ? { ...s, start: end } : s));
    });
  };
}

function strip(b) {
  const { sounds } = b.ui,
    wide = b.ui.keyWide,
    length = Math.max(sounds.at(-1)?.end ?? 1, 0.5) + 0.1,
    of = (wide - 10) / length;
  const clip = b.clipAtHand(),
    now = clip ? b.clipFrame / clip.rate : 0;
  return h(
    "svg",
    { width: wide, height: HIGH, class: "speech-strip", role: "group", "aria-label": "Sounds in time" },
    sounds.map((s, i) =>
      h(
        "g",
        { key: i },
        h("rect", {
          x: s.start * of,
          y: 10,
          width: Math.max((s.end - s.start) * of - 1, 1),
          height: 34,
          rx: 5,
          class: s.viseme ? "sound" : "sound none",
        }),
        h("text", { x: (s.start + s.end) * 0.5 * of, y: 32, "text-anchor": "middle" }, s.sound),
        h("title", {}, s.viseme ? `viseme ${s.viseme}` : "silence"),
        h("rect", {
          x: s.end * of - 4,
          y: 6,
          width: 8,
          height: 42,
          class: "sound-end",
          "data-end": i,
          onpointerdown: dragEnd(b, i, of),
        }),
      ),
    ),
    Array.from({ length: Math.floor(length) + 1 }, (_, t) =>
      h("text", { key: `t${t}`, x: t * of + 2, y: HIGH - 4, class: "soft" }, `${t} s`),
    ),
    h("line", { x1: now * of, x2: now * of, y1: 2, y2: HIGH - 14, class: "now-line" }),
  );
}

/** What is typed, what comes of it, and how the face shows it. */
export function speechShelf(b) {
  const chosen = (e) => {
    const [file] = e.target.files;
    e.target.value = "";
    if (file) bring(b, file);
  };
  const pad = b.state.boards.some((x) => x.name === "mouth pad");
  return h(
    "div",
    { class: "speech" },
    h(
      "div",
      { class: "key-top" },
      form(
        (v) => lay(b, { text: v.text, each: v.each }),
        acts(
          own.text("text", "Sounds with blanks between them", { placeholder: "h eh l ow , …", style: "width:300px" }),
          own.number("each", "Seconds that each lasts", 0.1, { step: 0.02, min: 0.02, style: "width:72px" }),
          submit("Lay them out", "small"),
        ),
      ),
      h(
        "label",
        { class: "btn btn-sm btn-plain" },
        "From a timed file",
        h("input", {
          type: "file",
          accept: ".csv,.txt,.tsv,.json",
          class: "visually-hidden",
          "aria-label": "Sounds file",
          onchange: chosen,
        }),
      ),
      pad ? choices({ visemes: "by visemes", pad: "by the pad" }, b.ui.speakBy, (v) => (b.ui.speakBy = v)) : null,
      switchButton(
        "Held",
        b.ui.speakHeld,
        () => (b.ui.speakHeld = !b.ui.speakHeld),
        "The face jumps from one to the next",
      ),
      b.ui.sounds.length ? button("Let it say it", () => speak(b), "small mend") : null,
    ),
    b.ui.sounds.length
      ? strip(b)
      : h(
          "p",
          { class: "soft" },
          "Type sounds, each as one would say it, or choose a file with rows of start, end, sound.",
        ),
  );
}

/** What it keeps while the page is open. */
export const speechFields = { sounds: [], speakBy: "visemes", speakHeld: false };
