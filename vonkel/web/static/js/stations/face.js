// The Face station: eyes, jaw and what belongs to them.
import { actionButton } from "../app/actions.js";
import { enterStation } from "../app/stations.js";
import { acts } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { cm, plainName } from "../words.js";
import { channelSheet, poseSheet } from "./posing.js";

function left(b) {
  const { joints, kits, low, parts } = b.state;
  const eyes = joints.filter((j) => j.role === "eye"),
    balls = parts.filter((p) => p.role === "eye"),
    set = kits.some((k) => k.kind === "eyes");
  return [
    h("h2", {}, "Face"),
    h("h3", {}, "Eyeballs"),
    balls.map((p) => h("p", { key: p.name }, p.name)),
    balls.length ? null : h("p", { class: "empty" }, "No part is an eyeball. Say which is, at the Model station."),
    h("h3", {}, "Eye joints"),
    eyes.map((j) => h("p", { key: j.name }, tag(j.side), ` ${plainName(j.name)}, ${cm(j.place[1] - low[1])} cm high`)),
    eyes.length ? null : h("p", { class: "empty" }, "None yet."),
    acts(actionButton(b, "eyes", set ? "small" : "mend", "Set eyes and aim")),
  ];
}

enterStation("face", {
  large: "free",
  layers: { controls: true },
  levels: new Set(["face"]),
  shading: () => "colours",
  left,
  right: (b) => [channelSheet(b), poseSheet(b)],
  enter: (b) => {
    const aim = b.state.controls.find((c) => c.level === "face");
    if (aim && !b.plate.selected.control) b.choose({ control: aim.name });
  },
});
