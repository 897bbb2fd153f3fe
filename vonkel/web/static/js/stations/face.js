// Face: eyes, jaw and what belongs to them.
import { cm, h, plainName, tag } from "../dom.js";
import { button } from "./common.js";
import { channelSheet, poseSheet, poseDock } from "./posing.js";

export const face = {
  large: "free",
  layers: { controls: true },
  levels: new Set(["face"]),
  shading: "colours",
  left: (b) => {
    const eyes = b.state.joints.filter((j) => j.role === "eye");
    return [
      h("h2", {}, "Face"),
      h("h3", {}, "Eyeballs"),
      ...b.state.parts.filter((p) => p.role === "eye").map((p) => h("p", {}, p.name)),
      b.state.parts.some((p) => p.role === "eye")
        ? null
        : h("p", { class: "empty" }, "No part is an eyeball. Say which is, at the Model station."),
      h("h3", {}, "Eye joints"),
      ...eyes.map((j) => h("p", {}, tag(j.side), ` ${plainName(j.name)}, ${cm(j.place[1] - b.state.low[1])} cm high`)),
      eyes.length ? null : h("p", { class: "empty" }, "None yet."),
      h(
        "div",
        { class: "acts" },
        button(
          "Set eyes and aim",
          () => b.step("face.eyes", {}),
          b.state.kits.some((k) => k.kind === "eyes") ? "small" : "mend",
        ),
      ),
    ].filter(Boolean);
  },
  right: (b) => [...channelSheet(b), ...poseSheet(b)],
  enter: (b) => {
    const aim = b.state.controls.find((c) => c.level === "face");
    if (aim && !b.plate.selected.control) b.plate.selected = { joint: "", control: aim.name };
  },
  dock: (b) => poseDock(b).filter((t) => t.label !== "Fine controls"),
};
