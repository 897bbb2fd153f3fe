// The eyes as a drawing: an iris is dragged to look, an edge of lids to shut or open them, a tick to where they meet.
import { followed } from "../widgets/drag.js";
import { choices, slider } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { reachOf, sliderFor, travels } from "./eyes.js";
import { channelSlider } from "./posing.js";

const CLOSE = 0.85; // of the way: how much nearer crossed eyes look; the same as the core's
const W = 268,
  H = 122,
  R = 50, // of a ball, pixels
  MID = 60,
  LIFT = 26; // of a lid's edge at rest, above the middle
const FAR = 0.95; // as far as an iris goes: the sine of its angle

const kitOf = (b, kind) => b.state.kits.find((k) => k.kind === kind);
const controlOf = (b, kit, key) => b.state.controls.find((c) => c.kit === kit.name && c.key === key);

/** The eyes that the drawing shows, the right one first as one looks at the figure. */
function eyesOf(b) {
  const kit = kitOf(b, "eyes"),
    aim = kit && controlOf(b, kit, "aim");
  if (!aim) return null;
  const joints = kit.joints.eyes.map((n) => b.state.joints.find((j) => j.name === n)).filter(Boolean);
  const middle = [0, 1, 2].map((k) => joints.reduce((sum, j) => sum + j.place[k], 0) / joints.length);
  const eyes = joints.slice(0, 2).map((joint) => {
    const lids = b.state.kits.find((k) => k.kind === "lids" && k.joints.eye?.includes(joint.name));
    const reach = lids && reachOf(lids);
    return { joint, own: controlOf(b, kit, `aim:${joint.name}`), lids: lids && controlOf(b, lids, "lids"), reach };
  });
  eyes.sort((p, q) => p.joint.place[0] - q.joint.place[0]);
  return { aim, middle, eyes };
}

const moved = (values, control) => ["x", "y", "z"].map((k) => (control && values[control.name]?.[`move ${k}`]) || 0);

/** Where an eye looks: sines across the figure and up. */
function gaze(values, { aim, middle }, eye) {
  const by = moved(values, aim),
    own = moved(values, eye.own),
    cross = values[aim.name]?.cross ?? 0;
  const goal = [0, 1, 2].map((k) => aim.place[k] + by[k]);
  const near = goal.map((v, k) => v + CLOSE * cross * (middle[k] - v) + own[k]);
  const way = near.map((v, k) => v - eye.joint.place[k]),
    long = Math.hypot(...way) || 1;
  return [way[0] / long, way[1] / long];
}

/** Set channels of several controls at once; kept as a pose when the hand lets go. */
function put(b, all, keep, words) {
  b.trial = "";
  const next = { ...b.values };
  for (const [name, channels] of Object.entries(all)) next[name] = { ...next[name], ...channels };
  b.values = next;
  b.pose();
  if (keep) b.keepPose(words);
}

/**
 * What an eye's target is to be moved by so that the eye looks at these sines.
 * @param {any} b @param {any} set @param {any} eye @param {number[]} sines
 */
function aimedAt(b, set, eye, [x, y]) {
  const flat = Math.min(Math.hypot(x, y), FAR),
    by = flat / (Math.hypot(x, y) || 1),
    ahead = Math.sqrt(1 - flat * flat);
  const one = b.ui.eyesApart && eye.own,
    control = one ? eye.own : set.aim,
    was = moved(b.values, control);
  const goal = set.aim.place.map((v, k) => v + (one ? moved(b.values, set.aim)[k] : 0));
  const z = set.aim.place[2] + moved(b.values, set.aim)[2] - eye.joint.place[2];
  const want = [eye.joint.place[0] + (x * by * z) / ahead, eye.joint.place[1] + (y * by * z) / ahead];
  return { [control.name]: { "move x": want[0] - goal[0], "move y": want[1] - goal[1], "move z": was[2] } };
}

/** The lids of which eyes go along. */
const lidsAlong = (b, set, eye) =>
  (b.ui.eyesApart ? [eye] : set.eyes).map((e) => e.lids?.name).filter((n) => n !== undefined);

function lidsTo(b, set, eye, channels, keep) {
  const names = lidsAlong(b, set, eye);
  put(b, Object.fromEntries(names.map((n) => [n, channels])), keep, "Moved the lids");
}

const edge = (x, y) => `M${x - R},${MID} Q${x},${MID - 2 * y} ${x + R},${MID}`;

/** One handle: dragged, or moved by the arrow keys in steps of `by` pixels. */
const handle = (more, act, words, value, by = 4) => ({
  tabindex: 0,
  role: "slider",
  "aria-label": words,
  "aria-valuetext": value,
  onpointerdown: (e) => followed(e, act, W),
  onkeydown: (e) => {
    const way = { ArrowUp: [0, -by], ArrowDown: [0, by], ArrowLeft: [-by, 0], ArrowRight: [by, 0] }[e.key];
    if (!way) return;
    e.preventDefault();
    e.stopPropagation();
    act(way, true);
  },
  ...more,
});

function eyeDrawing(b, set, eye, x) {
  const name = eye.joint.name,
    [gx, gy] = gaze(b.values, set, eye),
    ix = x + gx * R * 0.62,
    iy = MID - gy * R * 0.62;
  const look = (by, done) => {
    const at = [gx + by[0] / (R * 0.62), gy - by[1] / (R * 0.62)];
    put(b, aimedAt(b, set, eye, at), done, "Turned the eyes");
  };
  const parts = [
    h("circle", { cx: x, cy: MID, r: R, class: "eye-ball" }),
    h("circle", { cx: ix, cy: iy, r: 17, class: "eye-iris" }),
    h("circle", { cx: ix, cy: iy, r: 7, class: "eye-pupil" }),
    h("circle", handle({ cx: ix, cy: iy, r: 19, class: "eye-grip look", "data-eye": name }, look, `Where ${name} looks`,
      `${gx.toFixed(2)} across, ${gy.toFixed(2)} up`)),
  ]; // prettier-ignore
  if (eye.lids) parts.push(...lidDrawing(b, set, eye, x));
  return h("g", { key: name }, parts);
}

function lidDrawing(b, set, eye, x) {
  const values = { blink: 0, line: 0.3, upper: 0, lower: 0, ...b.values[eye.lids.name] },
    { up, low } = travels(values, eye.reach),
    top = LIFT * (1 - 2 * up),
    foot = -LIFT * (1 - 2 * low),
    meet = -LIFT + 2 * LIFT * values.line;
  const asked = (channel, travel, share, done) =>
    lidsTo(b, set, eye, { [channel]: sliderFor(travel, values.blink, share, eye.reach) }, done);
  const upper = (by, done) => asked("upper", up + by[1] / (2 * LIFT), 1 - values.line, done);
  const lower = (by, done) => asked("lower", low - by[1] / (2 * LIFT), values.line, done);
  const line = (by, done) => {
    const at = Math.min(Math.max(values.line - by[1] / (2 * LIFT), 0), 1);
    lidsTo(b, set, eye, { line: Number(at.toFixed(3)) }, done);
  };
  const over = (y) => `${edge(x, y)} A${R},${R} 0 0 0 ${x - R},${MID} Z`,
    under = (y) => `${edge(x, y)} A${R},${R} 0 0 1 ${x - R},${MID} Z`;
  const out = x > W / 2 ? x + R + 6 : x - R - 6,
    name = eye.joint.name;
  const grip = (which, y, act, value) =>
    h("path", handle({ d: edge(x, y), class: `eye-grip lid`, "data-lid": `${which} ${name}` }, act,
      `${which} lid of ${name}`, `${Math.round(100 * value)} % shut`)); // prettier-ignore
  return [
    h("path", { d: over(top), class: "eye-lid" }),
    h("path", { d: under(foot), class: "eye-lid" }),
    h("path", { d: edge(x, top), class: "eye-edge" }),
    h("path", { d: edge(x, foot), class: "eye-edge" }),
    h("line", { x1: x - R, x2: x + R, y1: MID - meet, y2: MID - meet, class: "eye-line" }),
    grip("upper", top, upper, up),
    grip("lower", foot, lower, low),
    h("path", handle({ d: `M${out},${MID - meet} l${out > x ? 9 : -9},-6 v12 z`, class: "eye-tick", "data-line": name },
      line, `Where the lids of ${name} meet`, `${Math.round(100 * values.line)} % up`)), // prettier-ignore
  ];
}

/** All lids shut together, each pair where its own tick says. */
function blinkSlider(b, names) {
  const to = (keep) => (e) => {
    const all = Object.fromEntries(names.map((n) => [n, { blink: Number(e.target.value) }]));
    put(b, all, keep, "Blinked");
  };
  const more = { low: 0, high: 1, step: 0.01, oninput: to(false), onchange: to(true), "data-keep": "s-blink" };
  return h(
    "div",
    { class: "slider wide" },
    h("span", {}, "blink"),
    slider("blink of the eyes", b.values[names[0]]?.blink ?? 0, more),
  );
}

/** The eyes, as far as the face has controls for them. */
export function eyeSheet(b) {
  const set = eyesOf(b);
  if (!set) return null;
  const at = set.eyes.length > 1 ? [70, W - 70] : [W / 2];
  const names = set.eyes.map((e) => e.lids?.name).filter(Boolean);
  return [
    h("h2", {}, "Eyes"),
    h(
      "svg",
      { viewBox: `0 0 ${W} ${H}`, class: "eyes", role: "group", "aria-label": "Eyes: drag an iris or an edge of lids" },
      set.eyes.map((e, i) => eyeDrawing(b, set, e, at[i])),
    ),
    h(
      "p",
      { class: "eye-sides" },
      set.eyes.map((e) => h("span", { key: e.joint.name }, tag(e.joint.side))),
    ),
    set.eyes.length > 1
      ? choices(
          { both: "Both eyes", one: "Each on its own" },
          b.ui.eyesApart ? "one" : "both",
          (v) => (b.ui.eyesApart = v === "one"),
        )
      : null,
    names.length ? blinkSlider(b, names) : null,
    ["cross", "move z"]
      .map((n) => set.aim.channels.find((k) => k.name === n))
      .filter(Boolean)
      .map((k) => channelSlider(b, set.aim.name, k)),
  ];
}
