// The Limbs station: kits, controls, what leads what, rules, and the order in which all is solved.
import { actionButton } from "../app/actions.js";
import { enterStation } from "../app/stations.js";
import { acts, button, chosenButton, slider, tabs } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { folded } from "./common.js";
import { controlTools } from "./controls.js";
import { kitSheet } from "./kits.js";
import { linkFields, linkSheet } from "./links.js";
import { orderFields, orderSheet } from "./order.js";
import { channelSheet, chosenControl, poseSheet } from "./posing.js";
import { ruleSheet } from "./rules.js";

const VIEWS = { control: "Control", links: "Links", rules: "Rules", order: "Order" };

/** Trying a motion: springs and swings run live, or a pass from rest to the pose and back is scrubbed. */
function motionSheet(b) {
  const frames = b.motionFrames;
  const moving = b.state.rules.filter((r) => (r.kind === "spring" || r.kind === "swing") && r.on).length;
  const bar = slider("Frame of the try", b.motionFrame, {
    low: 0,
    high: frames - 1,
    step: 1,
    oninput: (e) => b.motionTo(Number(e.target.value)),
  });
  return folded(
    b,
    "Springs and swings in motion",
    h("p", { class: "soft" }, moving ? `${moving} of them. Live, they follow your hand.` : "None yet: see Rules."),
    acts(
      chosenButton(b.running ? "Stop" : "Run live", b.running, () => b.run(!b.running)),
      button("Reset", () => b.run("reset"), "small"),
    ),
    h("p", { class: "soft" }, "A try in 3 seconds: from rest to the pose at hand, held, and back."),
    bar,
    acts(
      chosenButton(b.playing ? "Stop" : "Play", b.playing, () => b.playMotion(!b.playing)),
      h("output", { class: "soft fig" }, `frame ${b.motionFrame} of ${frames}`),
    ),
  );
}

const otherSide = (b) =>
  acts(
    chosenControl(b) ? actionButton(b, "opposite", "small", "Opposite") : null,
    actionButton(b, "pose.swap", "small", "Swap sides"),
    actionButton(b, "pose.L", "small", "L to R"),
    actionButton(b, "pose.R", "small", "R to L"),
  );

function backButtons(b) {
  const c = chosenControl(b);
  if (!c) return null;
  const set = () => new Set(b.state.controls.filter((x) => x.level === c.level).map((x) => x.name));
  return acts(
    button("Zero it", () => b.zero(new Set([c.name]), `Zeroed ${c.name}`), "small"),
    button(`Zero the set “${c.level}”`, () => b.zero(set(), `Zeroed the set ${c.level}`), "small"),
  );
}

const controlSheet = (b) => [
  channelSheet(b, false),
  backButtons(b),
  controlTools(b),
  poseSheet(b),
  otherSide(b),
  motionSheet(b),
];
const SHEETS = { control: controlSheet, links: linkSheet, rules: ruleSheet, order: orderSheet };

function right(b) {
  const view = b.ui.rigView;
  const head = tabs(VIEWS, view, (v) => {
    b.ui.rigView = v;
  });
  return [b.state.kits.length ? head : null, h("div", { key: view }, SHEETS[view](b))];
}

enterStation("limbs", {
  large: "free",
  layers: { controls: true },
  levels: new Set(["body", "face"]),
  shading: () => "colours",
  fields: { rigView: "control", openKits: new Set(), ...linkFields, ...orderFields },
  left: kitSheet,
  right,
  enter: (b) => {
    b.loadKitKinds().catch(say);
    b.loadSteps();
  },
  picked: (b, name) => b.tool?.pick?.(name),
});
