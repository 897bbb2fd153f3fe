// The stations after the limbs: skin, shapes, face, trials, handover; and the posing that they share.
import { call, cm, fullName, h, inWords, measureOf, one, plainName, say, spaced, tag, toast } from "../dom.js";
import { button, figures, filtered, hierarchy, noJoints, pairs, upload } from "./common.js";

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

// -- skin ----------------------------------------------------------------------------------------------------------
async function showWeights(b, joint) {
  try {
    const response = await fetch(`/api/c/${b.number}/weights/${encodeURIComponent(joint)}`);
    if (!response.ok) throw (await response.json()).error;
    b.plate.setValues(new Float32Array(await response.arrayBuffer()));
    b.legend(`weight of ${fullName(joint)}`);
  } catch (error) {
    say(error);
  }
}

export const skin = {
  large: "free",
  strip: true,
  layers: { controls: true },
  levels: new Set(["body"]),
  left: (b) => [
    h("h2", {}, "Who holds the skin"),
    ...(b.state.joints.length
      ? [
          filtered(b, "jointFilter", `Filter ${b.state.joints.length} joints …`),
          hierarchy(b, (j) =>
            b.state.skin?.holds[j.name] !== undefined
              ? h(
                  "span",
                  { class: "bar", title: "its share of the skin" },
                  h("i", { style: `width:${Math.max(6, 100 * Math.sqrt(b.state.skin.holds[j.name]))}%` }),
                )
              : null,
          ),
        ]
      : noJoints(b)),
  ],
  right: (b) => {
    const s = b.state.skin,
      n = h("input", {
        type: "number",
        value: String(s?.influences ?? 4),
        min: 1,
        max: 8,
        step: 1,
        "aria-label": "influences a point",
      });
    const fall = h("input", { type: "number", value: "5", min: 1, max: 12, step: 0.5, "aria-label": "falloff" });
    return [
      h("h2", {}, s ? "Under the hand" : "Binding"),
      ...(s ? underHand(b) : [h("p", { class: "empty" }, "The mesh follows nothing yet.")]),
      h("h3", {}, s ? "Bind again" : "Bind"),
      pairs(["influences", n], ["falloff", fall]),
      h(
        "div",
        { class: "acts" },
        button(
          s ? "Bind again" : "Bind through the volume",
          () =>
            b.step("skin.bind", {
              influences: Number(n.value),
              falloff: Number(fall.value),
              method: s?.method ?? "dual",
            }),
          s ? "small" : "mend",
        ),
      ),
      ...(s
        ? [
            h("h3", {}, "Deforming"),
            h(
              "div",
              { class: "acts" },
              [
                ["dual", "Dual quaternion"],
                ["linear", "Linear"],
              ].map(([m, t]) =>
                h(
                  "button",
                  {
                    class: "small",
                    "aria-pressed": String(s.method === m),
                    onclick: () => b.step("skin.method", { method: m }),
                  },
                  t,
                ),
              ),
            ),
          ]
        : []),
    ];
  },
  enter: (b) => {
    if (b.state.skin && b.plate.selected.joint) showWeights(b, b.plate.selected.joint);
  },
  picked: (b, name) => {
    if (b.state.skin) showWeights(b, name);
  },
  pickPoint: async (b, index) => {
    if (!b.state.skin) return;
    try {
      b.under = await call("GET", `/api/c/${b.number}/point/${index}`);
    } catch (error) {
      say(error);
      return;
    }
    b.plate.marked = [index];
    b.plate.draw();
    b.sheets();
  },
  dock: (b) => [...poseDock(b)],
};

function underHand(b) {
  if (!b.under?.weights.length)
    return [
      h("p", { class: "soft" }, "Choose a joint to see its reach, or click the skin to see who holds that point."),
    ];
  return [
    h(
      "p",
      { class: "soft" },
      `point ${spaced(b.under.point)} · ${b.under.weights.length} of ${b.state.skin.influences} influences`,
    ),
    ...b.under.weights.map((w) =>
      h(
        "div",
        { class: "weights-row" },
        h("span", {}, fullName(w.joint)),
        h("span", { class: "bar" }, h("i", { style: `width:${100 * w.weight}%` })),
        h("span", { class: "fig" }, w.weight.toFixed(2)),
      ),
    ),
  ];
}

// -- shapes and face -----------------------------------------------------------------------------------------------
export const shapes = {
  large: "free",
  shading: "colours",
  left: (b) => [
    h("h2", {}, "Shapes"),
    ...(b.state.shapes.length
      ? [
          h(
            "ul",
            { class: "rows" },
            b.state.shapes.map((s) =>
              h(
                "li",
                {},
                h(
                  "button",
                  {
                    "aria-selected": String(b.shape === s.name),
                    onclick: () => {
                      b.shape = s.name;
                      b.sheets();
                    },
                  },
                  h("span", { class: "grow" }, s.name),
                ),
              ),
            ),
          ),
        ]
      : [
          h(
            "p",
            { class: "empty" },
            "No shapes yet. Bring in the same mesh with some points moved, such as an open mouth.",
          ),
        ]),
    h("h3", {}, "Bring one in"),
    shapeForm(b),
  ],
  right: (b) => [
    h("h2", {}, "Strength"),
    ...(b.state.shapes.length
      ? b.state.shapes.map((s) =>
          channelSlider(b, "shapes", { name: s.name, kind: "value", rest: 0, low: s.low, high: s.high }),
        )
      : [h("p", { class: "empty" }, "A slider for each shape stands here.")]),
    ...(b.shape && b.state.shapes.some((s) => s.name === b.shape)
      ? [
          h("h3", {}, b.shape),
          h(
            "div",
            { class: "acts" },
            button("Delete", () => b.step("shapes.remove", { shape: b.shape }), "small"),
            button(
              "Let it go past: −0.5 to 1.5",
              () => b.step("shapes.set", { shape: b.shape, low: -0.5, high: 1.5 }),
              "small",
            ),
          ),
        ]
      : []),
    h(
      "div",
      { class: "acts" },
      button("Back to rest (b)", () => b.toRest(), "small"),
    ),
  ],
};

function shapeForm(b) {
  const file = h("input", {
    type: "file",
    accept: ".obj,.ply,.glb,.gltf,.zip,.bin",
    multiple: true,
    style: "width:100%",
    "aria-label": "Mesh of the shape",
  });
  const name = h("input", {
    type: "text",
    placeholder: "name, as the file",
    maxlength: 60,
    style: "width:100%",
    "aria-label": "Shape name",
  });
  return h(
    "form",
    {
      onsubmit: async (e) => {
        e.preventDefault();
        if (!file.files.length) {
          toast("Choose a mesh first.");
          return;
        }
        await upload(b, "shape", file.files, { name: name.value });
      },
    },
    file,
    name,
    h("div", { class: "acts" }, h("button", { class: "mend small" }, "Add the shape")),
  );
}

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

// -- trials and handover -------------------------------------------------------------------------------------------
/** Why no pose can be tried, or nothing. */
export const noPoses = (b) =>
  b.state.skin && !b.state.trial_names.length && !b.state.poses.length
    ? "The poses are made for arms, legs, digits, a spine, a neck or a tail, and none of this body's joints is one. Pose it at Limbs and save the pose: saved poses are tried, too."
    : "";

export const trials = {
  large: "free",
  strip: true,
  heat: true,
  left: (b) =>
    [
      h("h2", {}, "Poses"),
      ...(b.state.skin
        ? [
            h(
              "ul",
              { class: "rows" },
              (b.strip.cards.length ? b.strip.cards : b.state.trial_names.map((name) => ({ name }))).map((c) =>
                h(
                  "li",
                  {},
                  h(
                    "button",
                    {
                      "aria-selected": String(b.trial === c.name),
                      "data-keep": `t-${c.name}`,
                      onclick: () => b.strip.go(c),
                    },
                    c.grade ? h("span", { class: "fig" }, c.grade) : null,
                    h("span", { class: "grow" }, c.name),
                  ),
                ),
              ),
            ),
          ]
        : [h("p", { class: "empty" }, "Bind the skin first; then every pose can be tried.")]),
      b.state.skin && noPoses(b) ? h("p", { class: "empty" }, "None yet.") : null,
    ].filter(Boolean),
  right: (b) => {
    const c = b.strip.chosen();
    if (!c)
      return [
        h("h2", {}, "Figures"),
        h(
          "p",
          { class: "empty" },
          noPoses(b) ||
            (b.strip.cards.length
              ? "Choose a pose: the figure goes there, and the heat shows where it suffers."
              : "Run the trials, below."),
        ),
      ];
    const figure = (v) => h("span", { class: "fig" }, v);
    return [
      h("h2", {}, c.name, " ", h("span", { class: "fig" }, c.grade)),
      h("p", { class: "soft" }, c.about),
      h("p", {}, `Worst: ${inWords(c.worst)}, at ${fullName(c.worst_joint)}.`),
      pairs(
        ["longest edge", figure(`× ${c.edge_stretch_most.toFixed(2)}`)],
        ["shortest edge", figure(`× ${c.edge_squeeze_most.toFixed(2)}`)],
        ["face area", figure(`× ${c.area_least.toFixed(2)} – ${c.area_most.toFixed(2)}`)],
        ["folded edges", figure(String(c.folded_faces))],
        ["left behind", figure(`${c.left_behind} points`)],
        ["to linear", figure(`${(1000 * c.live_to_linear_m).toFixed(1)} mm`)],
      ),
      h("h3", {}, "Volume by limb"),
      figures(
        ...Object.entries(c.volume_change)
          .sort((x, y) => Math.abs(y[1]) - Math.abs(x[1]))
          .slice(0, 6)
          .map(([k, v]) => [inWords(k), figure(`${v >= 0 ? "+" : "−"}${Math.abs(100 * v).toFixed(1)} %`)]),
      ),
      h(
        "div",
        { class: "acts" },
        button("Look at the worst", () => lookAtWorst(b, c), "small"),
        button(
          "Who holds it",
          () => {
            b.go("skin");
            b.trial = c.name;
            b.selectJoint(c.worst_joint);
            b.pose();
          },
          "small",
        ),
      ),
    ];
  },
  dock: (b) => [
    {
      label: "Heat",
      on: b.heat,
      act: () => {
        b.heat = !b.heat;
        if (!b.heat) b.plate.setValues(null);
        b.legend(b.heat ? "how far edges are stretched or squeezed" : "", ["none", "", "×2"]);
        b.pose();
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
  ],
};

function lookAtWorst(b, c) {
  const i = c.left_behind_points[0] ?? c.edge_stretch_point,
    p = b.plate.points;
  b.plate.marked = c.left_behind_points.length ? c.left_behind_points : [c.edge_stretch_point];
  b.plate.lookAt([p[3 * i], p[3 * i + 1], p[3 * i + 2]]);
}

export const handover = {
  large: "free",
  shading: "colours",
  left: (b) => [
    h("h2", {}, "What goes out"),
    pairs(
      ...Object.entries({
        points: "points",
        faces: "faces",
        parts: "parts",
        joints: "joints",
        deforming_joints: "of them deform",
        controls: "controls",
        shapes: "shapes",
        influences: "influences",
      }).map(([k, t]) => [t, h("span", { class: "fig" }, spaced(b.state.counts[k]))]),
    ),
  ],
  right: (b) => [
    h("h2", {}, "Handover"),
    h(
      "p",
      {},
      "The .glb holds the mesh in its point order, joints, linear skin weights, shapes and the rest pose. An animator's program will deform it as the linear skin here does; the trials say how far the live skin is from that.",
    ),
    h(
      "div",
      { class: "acts" },
      h(
        "a",
        {
          class: "btn",
          href: `/api/c/${b.number}/export.glb${b.exportNames ? `?names=${encodeURIComponent(b.exportNames)}` : ""}`,
          download: "",
          id: "export-glb",
        },
        "Rig as .glb",
      ),
      h("a", { class: "btn", href: `/api/c/${b.number}/export.obj`, download: "" }, "Mesh as .obj"),
      h("a", { class: "btn", href: `/api/c/${b.number}/report.json`, download: "" }, "Report"),
      h("a", { class: "btn", href: `/api/c/${b.number}/recipe.json`, download: "" }, "Recipe"),
      h("a", { class: "btn", href: `/api/c/${b.number}/export.vonkel`, download: "" }, "Whole character"),
    ),
    h("h3", {}, "Joint names in the .glb"),
    h(
      "select",
      {
        "aria-label": "Joint names in the export",
        onchange: (e) => {
          b.exportNames = e.target.value;
          b.sheets();
        },
      },
      Object.entries({
        "": "as here",
        hanim: "humanoid standard (ISO/IEC 19774)",
        "{side}_{part}{n}": "L_part1",
        "{Side} {part} {n}": "left part 1",
      }).map(([k, t]) => h("option", { value: k, selected: (b.exportNames ?? "") === k }, t)),
    ),
  ],
};
