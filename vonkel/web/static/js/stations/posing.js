// Posing: channels of a control, saved poses, and what the dock does about them.
import { h, measureOf, one, plainName, tag, toast } from "../dom.js";
import { button } from "./common.js";

// -- posing, shared by limbs, face and others -----------------------------------------------------------------------
export function channelSheet(b, zero = true) {
  const c = b.state.controls.find((x) => x.name === b.plate.selected.control);
  if (!c)
    return [
      h("h2", {}, "Control"),
      h(
        "p",
        { class: "empty" },
        b.state.controls.length ? "Choose an outline on the body and drag it." : "No controls yet.",
      ),
    ];
  return [
    h("h2", {}, plainName(c.name), " ", tag(c.side)),
    h("p", { class: "soft" }, `of the kit ${plainName(c.kit)}`),
    ...c.channels.filter((k) => !k.locked && !k.name.startsWith("in ")).map((k) => channelSlider(b, c.name, k)),
    !zero
      ? null
      : h(
          "div",
          { class: "acts" },
          button(
            "Zero it",
            () => {
              delete b.values[c.name];
              b.values = { ...b.values };
              b.trial = "";
              b.pose();
              b.keepPose(`Zeroed ${c.name}`);
            },
            "small",
          ),
        ),
  ].filter(Boolean);
}

export function channelSlider(b, control, k) {
  const { out, unit: after, digits } = measureOf(k),
    unit = after.trim();
  const low = (k.low ?? (k.kind === "move" ? -b.state.height : k.kind === "turn" ? -Math.PI : 0)) * out;
  const high = (k.high ?? (k.kind === "move" ? b.state.height : k.kind === "turn" ? Math.PI : 1)) * out;
  const value = (b.values[control]?.[k.name] ?? k.rest) * out,
    step = k.kind === "move" || k.kind === "turn" ? 0.1 : 0.01;
  const text = value.toFixed(digits),
    name = `${control} ${k.name}`;
  const field = h("input", {
    type: "number",
    value: text,
    step,
    "aria-label": `${name} ${unit}`,
    "data-keep": `f-${name}`,
    onchange: (e) => b.setChannel(control, k.name, Number(e.target.value) / out, true),
  });
  const slide = h("input", {
    type: "range",
    min: low,
    max: high,
    step: "any",
    value: String(value),
    "aria-label": name,
    "data-keep": `s-${name}`,
    oninput: (e) => {
      field.value = Number(e.target.value).toFixed(digits);
      b.setChannel(control, k.name, Number(e.target.value) / out, false);
    },
    onchange: (e) => b.setChannel(control, k.name, Number(e.target.value) / out, true),
  });
  return h("div", { class: "slider" }, h("span", {}, `${k.name}${unit ? `, ${unit}` : ""}`), slide, field);
}

export function poseSheet(b) {
  const name = h("input", {
    type: "text",
    placeholder: "name this pose",
    maxlength: 60,
    style: "width:150px",
    "aria-label": "Pose name",
    "data-keep": "pose-name",
  });
  const save = async () => {
    if (!name.value.trim()) {
      toast("Name the pose first.");
      return;
    }
    if (await b.step("poses.save", { name: name.value.trim(), values: b.values })) {
      const field = one("[data-keep=pose-name]");
      if (field) field.value = "";
    }
  };
  return [
    h("h3", {}, "Poses"),
    h("div", { class: "acts" }, name, button("Save", save, "small")),
    ...(b.state.poses.length
      ? [
          h(
            "div",
            { class: "acts" },
            b.state.poses.map((p) =>
              button(
                plainName(p),
                () => {
                  b.trial = p;
                  b.pose();
                  b.foot();
                },
                "small quiet",
              ),
            ),
          ),
        ]
      : []),
    h(
      "div",
      { class: "acts" },
      button("Back to rest (b)", () => b.toRest(), "small"),
      Object.keys(b.values).length ? button("Take as the new rest", () => b.newRest(), "small") : null,
    ),
  ];
}

export const poseDock = (b) => [
  {
    label: "Move",
    tool: true,
    on: b.plate.grip === "move",
    act: () => {
      b.plate.grip = "move";
    },
  },
  {
    label: "Turn",
    tool: true,
    on: b.plate.grip === "turn",
    act: () => {
      b.plate.grip = "turn";
    },
  },
  {
    label: "Fine controls",
    on: !b.plate.levels,
    title: "Show every control",
    act: () => {
      b.plate.levels = b.plate.levels ? null : new Set(["body", "face"]);
      b.plate.draw();
    },
  },
  {
    label: "Joints",
    on: b.plate.layers.joints,
    act: () => {
      b.plate.layers.joints = !b.plate.layers.joints;
      b.plate.draw();
    },
  },
  { label: "Back to rest", act: () => b.toRest() },
];
