// The Joints station: the hierarchy, and one joint by its place, turn, freedom and bone.
import { enterStation } from "../app/stations.js";
import { tryPivot } from "../tools/pivot.js";
import { DRAW } from "../tools/draw.js";
import {
  acts,
  button,
  choices,
  form,
  numberField,
  own,
  pairs,
  submit,
  tabs,
  textField,
  tick,
} from "../widgets/fields.js";
import { filtered, hierarchy, hierarchyFields, noJoints } from "../widgets/hierarchy.js";
import { h, tag } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { toast } from "../widgets/toasts.js";
import { cm, length, plainName } from "../words.js";
import { folded } from "./common.js";
import { freeTab } from "./freedom.js";
import { turnFields, turnTab } from "./turning.js";

const TABS = { place: "Place", turn: "Turn", free: "Freedom", bone: "Bone" };

// -- names ---------------------------------------------------------------------------------------------------------
function namesSheet(b) {
  const chosen = () => b.plate.selected.joint;
  return [
    stepForm(b, "joints.replace_names", { label: "Replace in all", fields: { find: "find", put: "put" } }),
    stepForm(b, "joints.number_names", {
      label: "Name the chain",
      fields: { pattern: "pattern" },
      values: { pattern: "{part}_{n}" },
      more: { pattern: { "aria-label": "Name pattern" } },
      fixed: () => ({ joints: b.chainFrom(chosen(), false), both_sides: b.symmetry }),
      ready: () => {
        if (!chosen()) toast("Choose the chain's first joint.");
        return !!chosen();
      },
    }),
  ];
}

// -- one joint -----------------------------------------------------------------------------------------------------
function placeTab(b, j, child) {
  const move = (axis) => (v) => {
    const place = [...j.place];
    place[axis] = axis === 1 ? v / 100 + b.state.low[1] : v / 100;
    b.step("joints.move", { joint: j.name, place, both_sides: b.symmetry, with_children: b.carryBelow });
  };
  const rename = async (name) => {
    if (await b.step("joints.rename", { joint: j.name, name, both_sides: b.symmetry })) b.selectJoint(name);
  };
  const set = (change) => b.step("joints.set", { joint: j.name, ...change, both_sides: b.symmetry });
  const bone = child ? Math.hypot(...j.place.map((v, i) => v - child.place[i])) : 0;
  return [
    pairs(
      ["to the left, cm", numberField("x, cm", cm(j.place[0]), move(0))],
      ["from ground, cm", numberField("y, cm", cm(j.place[1] - b.state.low[1]), move(1))],
      ["to the front, cm", numberField("z, cm", cm(j.place[2]), move(2))],
      child ? ["bone length", h("span", { class: "fig" }, length(bone))] : null,
    ),
    choices({ alone: "moves alone", below: "with all below" }, b.carryBelow ? "below" : "alone", (k) => {
      b.carryBelow = k === "below";
    }),
    h("h3", {}, "Name and work"),
    pairs(
      ["name", textField("Joint name", j.name, rename, { maxlength: 80 })],
      ["is", textField("What the joint is", j.role, (role) => set({ role }), { maxlength: 40, list: "roles" })],
      ["deforms", tick("deforms skin", j.deforms, (deforms) => set({ deforms }))],
    ),
    j.side !== "C"
      ? acts(
          button("Mirror", () => b.step("joints.mirror", { joint: j.name }), "small"),
          button(
            "Mirror, axes parallel",
            () => b.step("joints.mirror", { joint: j.name, manner: "parallel" }),
            "small",
          ),
        )
      : null,
  ];
}

function boneTab(b, j, child) {
  const both = { joint: j.name, both_sides: b.symmetry };
  const hang = (parent) => b.step("joints.reparent", { ...both, parent });
  const draw = () => {
    b.useTool("draw");
    DRAW.from(j);
  };
  const parent = textField("hangs from", j.parent ?? "", hang, {
    list: "joint-names",
    placeholder: "nothing: a root",
    maxlength: 80,
  });
  const more = child
    ? form(
        ({ pieces }) => b.step("joints.insert", { ...both, count: Number(pieces) - 1 }),
        pairs(["split into", own.number("pieces", "into pieces", 2, { min: 2, max: 61, step: 1 })]),
        acts(submit("Split the bone")),
      )
    : acts(button("Go on from here", () => b.step("joints.extend", both), "small"));
  return [
    pairs(["hangs from", parent]),
    more,
    acts(
      button("Draw from here", draw, "small"),
      button("Take out, heal", () => b.step("joints.remove", both), "small"),
      button("Take out with all below", () => b.step("joints.remove_chain", both), "small"),
      j.side !== "C" || child ? button("Try other pivots", () => tryPivot(b), "small") : null,
    ),
  ];
}

const SHOWN = { place: placeTab, turn: turnTab, free: freeTab, bone: boneTab };

function jointSheet(b) {
  const { joints } = b.state;
  const j = joints.find((x) => x.name === b.plate.selected.joint);
  if (!j)
    return [
      h("h2", {}, "Joint"),
      h(
        "p",
        { class: "empty" },
        joints.length
          ? "Choose a ring on the plate, or a name in the hierarchy, and drag it in any drawing."
          : "First choose a plan, or draw a chain.",
      ),
    ];
  const child = joints.find((x) => x.parent === j.name),
    tab = b.ui.jointTab;
  const about = [j.parent ? `child of ${plainName(j.parent)}` : "root of all", j.deforms ? "deforms skin" : "helps"];
  const roles = [...new Set(joints.map((x) => x.role))].filter(Boolean);
  return [
    h("h2", {}, plainName(j.name), " ", tag(j.side)),
    h("p", { class: "soft" }, about.join(" · ")),
    tabs(TABS, tab, (k) => {
      b.ui.jointTab = k;
    }),
    h("div", { key: `${j.name} ${tab}` }, SHOWN[tab](b, j, child)),
    h(
      "datalist",
      { id: "joint-names" },
      joints.map((x) => h("option", { key: x.name, value: x.name })),
    ),
    h(
      "datalist",
      { id: "roles" },
      roles.map((r) => h("option", { key: r, value: r })),
    ),
  ];
}

const hang = (b) => (joint, parent) => b.step("joints.reparent", { joint, parent, both_sides: b.symmetry });

enterStation("joints", {
  rest: true,
  layers: { joints: true },
  fields: { ...hierarchyFields, jointTab: "place", ...turnFields },
  left: (b) => [
    h("h2", {}, "Hierarchy"),
    b.state.joints.length
      ? [
          filtered(b, `Filter ${b.state.joints.length} joints …`),
          folded(b, "Names", namesSheet(b)),
          hierarchy(b, () => null, hang(b)),
          h("p", { class: "soft" }, "Drag a name onto another to hang it there."),
        ]
      : noJoints(b),
  ],
  right: jointSheet,
  keys: [
    ["arrows", "move the chosen joint 1 cm (Shift: 1 mm; Alt: in depth)"],
    ["Enter", "finish the chain"],
    ["Backspace", "take its last joint back"],
    ["Esc", "put the tool down"],
  ],
});
