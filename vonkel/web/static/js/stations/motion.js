// The Motion station: motions kept, played, keyed, walked, brought in.
import { enter } from "../app/actions.js";
import { enterSheet, enterStation } from "../app/stations.js";
import {
  acts,
  button,
  choices,
  chosenButton,
  form,
  numberField,
  own,
  pairs,
  select,
  submit,
  textField,
} from "../widgets/fields.js";
import { Component, h } from "../widgets/html.js";
import { MANNERS, posesOf } from "../widgets/keys.js";
import { captureFields, captureShelf } from "./capture.js";
import { folded } from "./common.js";
import { keyCurves } from "./keycurves.js";
import { chosenKeys, keyHead, keyStep, keyStrip, moveChosen, NAMES } from "./keystrip.js";
import { channelSheet, chosenControl } from "./posing.js";
import { listenFields, listenShelf, stop as stopListening } from "./listen.js";
import { speechFields, speechShelf } from "./speech.js";
import { walkFields, walkShelf } from "./walking.js";

const RATES = [24, 25, 30, 60];
const FIRST = "first motion";

const look = (b, name) => {
  b.clip = name;
  b.clipPlaying = false;
  b.ui.keysChosen = new Set();
  b.ui.keyView = b.ui.curveRange = null;
  b.clipTo(0);
};

/** A step of a motion; the one that it makes is looked at.  @param {any} b @param {string} name @param {any} params */
async function clipStep(b, name, params) {
  const before = new Set(b.state.clips.map((c) => c.name));
  if (!(await b.step(name, params, { keepPose: true, quiet: true }))) return false;
  const made = b.state.clips.find((c) => !before.has(c.name));
  if (made) look(b, made.name);
  else if (b.clipAtHand()) b.clipTo(Math.min(b.clipFrame, b.clipAtHand().frames - 1));
  else await b.toRest();
  return true;
}

function list(b, clip) {
  const row = (c) =>
    h(
      "li",
      { key: c.name },
      h(
        "button",
        { type: "button", "aria-selected": String(c === clip), onclick: () => look(b, c.name), "data-clip": c.name },
        h("span", { class: "grow" }, c.name),
        h("span", { class: "fig soft" }, `${c.frames}${c.keyed ? " · keys" : ""}${c.loop ? " ↻" : ""}`),
      ),
    );
  return h("ul", { class: "rows" }, b.state.clips.map(row));
}

/** Name, length, rate of the motion at hand, and what is done with it as a whole. */
function settings(b, clip) {
  const set = (more) => clipStep(b, "motion.set", { clip: clip.name, name: clip.name, ...more });
  const named = (name) => name.trim() && set({ name: name.trim() }).then((ok) => ok && look(b, name.trim()));
  const bvh = `/api/c/${b.number}/export.bvh?clip=${encodeURIComponent(clip.name)}`;
  const of = { clip: clip.name };
  return [
    pairs(
      ["name", textField("Name of the motion", clip.name, named)],
      clip.keyed
        ? [
            "last frame",
            numberField("Last frame", clip.end, (end) => clipStep(b, "keys.span", { ...of, end }), { step: 1, min: 1 }),
          ]
        : ["frames", h("span", { class: "fig" }, String(clip.frames))],
    ),
    acts(
      clip.keyed
        ? chosenButton("Loop", clip.loop, () => clipStep(b, "keys.span", { ...of, loop: !clip.loop }), {
            title: "It ends as it begins",
          })
        : button(
            "Make keys of it",
            () => clipStep(b, "motion.make_keys", { ...of, share: b.ui.cleanTo / 1000 }),
            "small mend",
          ),
      button("Mirror it", () => clipStep(b, "motion.mirror", { ...of, name: `${clip.name} mirrored` }), "small"),
      clip.keyed ? button("Frame by frame", () => clipStep(b, "motion.bake", of), "small") : null,
      h("a", { class: "btn btn-sm btn-plain", download: "", href: bvh }, "As .bvh"),
      button("Delete it", () => clipStep(b, "motion.remove", of), "small quiet"),
    ),
    clip.keyed
      ? null
      : h(
          "p",
          { class: "soft" },
          "Keys keep within ",
          numberField("Thousandths that keys may be off", b.ui.cleanTo, (v) => (b.ui.cleanTo = v), {
            step: 1,
            min: 0.1,
            style: "width:64px;display:inline-block",
          }),
          " thousandths: of the height for moves, of a radian for turns.",
        ),
  ];
}

function left(b) {
  const clip = b.clipAtHand();
  const rate = select(
    "Frames a second of this work",
    [...new Set([...RATES, b.state.rate])].map((r) => [r, `${r} frames a second`]),
    b.state.rate,
    (v) => b.step("motion.rate", { rate: Number(v) }, { keepPose: true }),
  );
  return [
    h("h2", {}, "Motions"),
    clip
      ? list(b, clip)
      : h("p", { class: "empty" }, "None yet. Pose the figure and set the pose, or let its legs step."),
    clip ? settings(b, clip) : null,
    pairs(["this work", rate]),
  ];
}

// -- the right sheet: what is chosen ----------------------------------------------------------------------------------
/** Set the pose at the frame at hand; the first one begins a motion. */
export function setPose(b) {
  const clip = b.clipAtHand(),
    keyed = clip?.keyed;
  return clipStep(b, "keys.pose", {
    clip: keyed ? clip.name : FIRST,
    frame: keyed ? b.clipFrame : 0,
    values: b.values,
    manner: b.ui.manner,
  });
}

/** Whether a pose is another than what the motion says at the frame at hand. */
const differs = (b, values) =>
  b.state.controls.some((c) =>
    c.channels.some((k) => {
      const now = values[c.name]?.[k.name] ?? k.rest,
        was = b.clipValues[c.name]?.[k.name] ?? k.rest;
      return Math.abs(now - was) > 1e-6;
    }),
  );

function chosenSheet(b) {
  const keys = chosenKeys(b);
  if (!keys.length) return null;
  const clip = b.clipAtHand(),
    at = (k) => clip.keys.find(([t, f]) => t === k[0] && Math.abs(f - k[1]) < 1e-3)?.[3];
  const manners = new Set(keys.map(at)),
    now = manners.size === 1 ? MANNERS[[...manners][0]] : "";
  const after = [...b.ui.keysChosen];
  return [
    h("h3", {}, `${keys.length} ${keys.length === 1 ? "key" : "keys"} chosen`),
    choices({ held: "held", linear: "straight", smooth: "smooth", bent: "own slopes" }, now, (manner) =>
      keyStep(b, "keys.manner", { keys, manner }, after),
    ),
    form(
      ({ by }) => moveChosen(b, { by }),
      acts(
        own.number("by", "Frames to move them by", 1, { step: 1, style: "width:70px" }),
        submit("frames on", "small"),
      ),
    ),
    acts(button("Take them out", () => keyStep(b, "keys.drop", { keys }), "small quiet")),
  ];
}

/** Whole poses: set, put between, stood evenly apart. */
function poseKeys(b, clip) {
  const keyed = clip?.keyed,
    poses = keyed ? posesOf(clip) : [],
    inside = keyed && poses.some((f) => f < b.clipFrame) && poses.some((f) => f > b.clipFrame);
  const space = ({ apart, held }) => clipStep(b, "keys.space", { clip: clip.name, apart, held: !!held });
  const share = own.number("share", "Share of the way from the pose before", 0.5, { step: 0.1, style: "width:70px" });
  return [
    h("h3", {}, "Whole poses"),
    acts(
      button(keyed ? "Set the pose here" : "Begin with this pose", () => setPose(b), "small mend", { title: "key: p" }),
      select(
        "How a pose goes on",
        [
          ["held", "held"],
          ["linear", "straight on"],
          ["smooth", "smoothly on"],
        ],
        b.ui.manner,
        (v) => (b.ui.manner = v),
        { style: "width:126px" },
      ),
    ),
    inside
      ? form(
          (v) => clipStep(b, "keys.between", { clip: clip.name, frame: b.clipFrame, share: v.share }),
          acts(submit("Put one between", "small"), share),
        )
      : null,
    poses.length > 1
      ? form(
          space,
          acts(
            submit("Stand them apart", "small"),
            own.number("apart", "Frames from pose to pose", 5, { step: 1, min: 1, style: "width:64px" }),
            h("label", { class: "check" }, h("input", { type: "checkbox", name: "held" }), " held"),
          ),
        )
      : null,
  ];
}

/** What follows in the same kit, so that a chain's links come one after the other. */
function restOf(b, control) {
  const its = b.state.controls.filter((c) => c.kit === control.kit && c.level === control.level),
    moves = new Set(b.clipAtHand().tracks.map((t) => t.thing));
  return its.slice(its.indexOf(control)).filter((c) => moves.has(`control:${c.name}`));
}

/** From the first to the last frame of several chosen keys; nothing where there are none. */
function spanOf(b) {
  const at = chosenKeys(b).map(([, f]) => f),
    [first, last] = [Math.min(...at), Math.max(...at)];
  return last > first ? { first, last } : null;
}

/** The chosen control in the motion: later, in the world, its side on the other. */
function partSheet(b, clip) {
  const c = chosenControl(b);
  if (!c || !clip?.keyed || !clip.tracks.some((t) => t.thing === `control:${c.name}`)) return null;
  const held = clip.tracks.some((t) => t.thing === `control:${c.name}` && t.channel.startsWith("world ")),
    rest = restOf(b, c);
  const later = ({ by, each }) => {
    const controls = each ? rest.map((x) => x.name) : [c.name];
    return clipStep(b, "keys.later", { clip: clip.name, controls, by, each: each || 0, snap: b.ui.keysSnap });
  };
  const world = held ? "motion.out_of_world" : "motion.into_world";
  return folded(
    b,
    "In this motion",
    form(
      later,
      pairs(
        ["later by", own.number("by", "Frames that it comes later", 2, { step: 1 })],
        rest.length > 1
          ? ["each next", own.number("each", "Frames more for each next of its kit; 0: it alone", 0, { step: 1 })]
          : null,
      ),
      acts(submit("Let it follow later", "small")),
    ),
    acts(
      button(
        held ? "Bring it back from the world" : "Hold it in the world",
        () => clipStep(b, world, { clip: clip.name, control: c.name }),
        "small",
      ),
    ),
    c.side === "C"
      ? null
      : form(
          (v) => clipStep(b, "motion.copy_side", { clip: clip.name, side: c.side, later: v.shift, ...spanOf(b) }),
          acts(
            submit(`Side ${c.side} on the other, too`, "small"),
            own.number("shift", "Frames later", 0, { step: 1, style: "width:64px" }),
          ),
          h(
            "p",
            { class: "soft" },
            spanOf(b) ? "From the first to the last of the chosen keys." : "All of the motion.",
          ),
        ),
  );
}

function right(b) {
  const clip = b.clipAtHand();
  return [chosenSheet(b), poseKeys(b, clip), channelSheet(b), partSheet(b, clip)];
}

// -- the shelf --------------------------------------------------------------------------------------------------------
/** Knows how wide the threads may be. */
class Wide extends Component {
  /** @type {HTMLElement | null} */ box = null;
  keep = (box) => {
    this.box = box;
  };
  componentDidMount() {
    this.watcher = new ResizeObserver(() => this.measure());
    this.watcher.observe(this.box);
  }
  componentWillUnmount() {
    this.watcher.disconnect();
  }
  measure() {
    const wide = Math.max(Math.round(this.box.clientWidth - NAMES - 26), 200);
    /** @type {any} */ (this.props).told(wide);
  }
  render() {
    return h("div", { class: "keys-shelf", ref: this.keep }, /** @type {any} */ (this.props).children);
  }
}

/** What the shelf shows of the motion at hand: its keys as threads, or as curves. */
function shelf(b, drawn) {
  const clip = b.clipAtHand();
  const play = chosenButton(b.clipPlaying ? "Stop" : "Play", b.clipPlaying, () => b.playClip(!b.clipPlaying));
  const begin = "A motion's keys stand here. Pose the figure, then set the pose: that is where it begins.";
  const inside = !clip
    ? h("p", { class: "soft" }, begin)
    : clip.keyed
      ? [h("div", { class: "key-top" }, play, keyHead(b, clip)), drawn(b, clip)]
      : plainPlayer(b, clip, play);
  return h(Wide, { key: "keys", told: (wide) => (b.ui.keyWide = wide) }, inside);
}

/** A motion without keys: played and scrubbed. */
function plainPlayer(b, clip, play) {
  const scrub = (e) => {
    b.clipPlaying = false;
    b.clipTo(Number(e.target.value));
  };
  return [
    h(
      "div",
      { class: "key-top" },
      play,
      h("output", { class: "soft fig" }, `frame ${b.clipFrame} of ${clip.frames - 1} · ${clip.rate} a second`),
    ),
    h("input", {
      type: "range",
      class: "form-range",
      min: 0,
      max: clip.frames - 1,
      step: 1,
      value: b.clipFrame,
      "aria-label": "Frame of the motion",
      oninput: scrub,
    }),
    h("p", { class: "soft" }, "It is written down frame by frame. Make keys of it to change it."),
  ];
}

enterSheet("motion", { id: "keys", side: "shelf", title: "Keys", high: 250, draw: (b) => shelf(b, keyStrip) });
enterSheet("motion", { id: "curves", side: "shelf", title: "Curves", high: 250, draw: (b) => shelf(b, keyCurves) });

enterSheet("motion", { id: "walk", side: "shelf", title: "Let it walk", high: 206, draw: walkShelf });
enterSheet("motion", {
  id: "speech",
  side: "shelf",
  title: "Speech",
  high: 206,
  draw: (b) => h(Wide, { key: "speech", told: (wide) => (b.ui.keyWide = wide) }, speechShelf(b)),
});
enterSheet("motion", { id: "listen", side: "shelf", title: "Listen", high: 206, draw: listenShelf });
enterSheet("motion", { id: "capture", side: "shelf", title: "From a file", high: 232, draw: captureShelf });

enterStation("motion", {
  large: "free",
  layers: { controls: true },
  levels: new Set(["body", "face"]),
  fields: {
    keysOf: "all",
    keysSnap: true,
    record: false,
    keyView: null,
    keyDrag: null,
    keyBox: null,
    keyWide: 800,
    keysChosen: new Set(),
    curveKind: "",
    curvesOff: new Set(),
    curveRange: null,
    manner: "smooth",
    cleanTo: 5,
    ...walkFields,
    ...captureFields,
    ...speechFields,
    ...listenFields,
  },
  left,
  right,
  enter: (b) => b.loadSteps(),
  leave: (b) => {
    if (b.listening) stopListening(b);
    b.clipPlaying = false;
    b.plate.ground = null;
    b.followFigure([0, 0, 0]);
  },
  posed: (b, values) => {
    const clip = b.clipAtHand();
    if (!b.ui.record || !clip?.keyed || b.clipPlaying || !differs(b, values)) return;
    const params = { clip: clip.name, frame: b.clipFrame, values, manner: b.ui.manner, changed: true };
    b.step("keys.pose", params, { keepPose: true, quiet: true });
  },
});

enter({
  id: "motion.set",
  words: "Set the pose as keys at this frame",
  where: "motion",
  station: "motion",
  key: "p",
  keyWords: "set the pose here",
  run: setPose,
});
enter({
  id: "motion.play",
  words: "Play the motion, or stop",
  where: "motion",
  station: "motion",
  key: " ",
  keyWords: "play, or stop",
  run: (b) => b.playClip(!b.clipPlaying),
});
