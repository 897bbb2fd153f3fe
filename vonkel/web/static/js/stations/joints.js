// The Joints station: the hierarchy, places, bones, turns, names, freedom, rotation order.
import { call, cm, h, length, plainName, say, tag, toast } from "../dom.js";
import { DRAW } from "../tools/draw.js";
import { PLANS } from "../tools/plan.js";
import { tryPivot } from "../tools/pivot.js";
import { button, choices, filtered, fold, hierarchy, noJoints, numberField, pairs, plain } from "./common.js";

const degrees = (r) => (r === null || r === undefined ? "" : ((r * 180) / Math.PI).toFixed(0));

/** The chosen joint and what hangs in a row below it. */
function chainFrom(b, name) {
  const chain = [name];
  for (;;) {
    const kids = b.state.joints.filter((j) => j.parent === chain.at(-1));
    if (kids.length !== 1) return chain;
    chain.push(kids[0].name);
  }
}

// -- names ---------------------------------------------------------------------------------------------------------
function namesSheet(b) {
  const find = h("input", {
    type: "text",
    placeholder: "find",
    style: "width:100%",
    "aria-label": "Find in names",
    "data-keep": "names-find",
  });
  const put = h("input", {
    type: "text",
    placeholder: "put instead",
    style: "width:100%",
    "aria-label": "Put instead",
    "data-keep": "names-put",
  });
  const pattern = h("input", {
    type: "text",
    placeholder: "{part}_{n}",
    style: "width:100%",
    "aria-label": "Name pattern",
    "data-keep": "names-pattern",
  });
  const clear = (...fields) =>
    fields.forEach((f) => {
      f.value = "";
    });
  return [
    find,
    put,
    h(
      "div",
      { class: "acts" },
      button(
        "Replace in all",
        async () => {
          const p = { find: find.value, put: put.value };
          clear(find, put);
          await b.step("joints.replace_names", p);
        },
        "small",
      ),
    ),
    pattern,
    h(
      "div",
      { class: "acts" },
      button(
        "Name the chain",
        async () => {
          const from = b.plate.selected.joint;
          if (!from) {
            toast("Choose the chain's first joint.");
            return;
          }
          const p = { joints: chainFrom(b, from), pattern: pattern.value || "{part}_{n}", both_sides: b.symmetry };
          clear(pattern);
          await b.step("joints.number_names", p);
        },
        "small",
      ),
    ),
  ];
}

// -- one joint -----------------------------------------------------------------------------------------------------
const TABS = { place: "Place", turn: "Turn", free: "Freedom", bone: "Bone" };

function placeTab(b, j, child) {
  const move = (axis) => (v) => {
    const p = [...j.place];
    p[axis] = axis === 1 ? v / 100 + b.state.low[1] : v / 100;
    b.step("joints.move", { joint: j.name, place: p, both_sides: b.symmetry, with_children: b.carryBelow === true });
  };
  return [
    pairs(
      ["to the left, cm", numberField("x", cm(j.place[0]), "cm", move(0))],
      ["from ground, cm", numberField("y", cm(j.place[1] - b.state.low[1]), "cm", move(1))],
      ["to the front, cm", numberField("z", cm(j.place[2]), "cm", move(2))],
      child
        ? ["bone length", h("span", { class: "fig" }, length(Math.hypot(...j.place.map((v, i) => v - child.place[i]))))]
        : null,
    ),
    choices({ alone: "moves alone", below: "with all below" }, b.carryBelow ? "below" : "alone", (k) => {
      b.carryBelow = k === "below";
      b.sheets();
    }),
    h("h3", {}, "Name and work"),
    pairs(
      [
        "name",
        h("input", {
          type: "text",
          value: j.name,
          maxlength: 80,
          style: "width:150px",
          "aria-label": "Joint name",
          onchange: async (e) => {
            const name = e.target.value;
            if (await b.step("joints.rename", { joint: j.name, name, both_sides: b.symmetry })) b.selectJoint(name);
          },
        }),
      ],
      [
        "is",
        h("input", {
          type: "text",
          value: j.role,
          maxlength: 40,
          style: "width:150px",
          list: "roles",
          "aria-label": "What the joint is",
          onchange: (e) => b.step("joints.set", { joint: j.name, role: e.target.value, both_sides: b.symmetry }),
        }),
      ],
      [
        "deforms",
        h("input", {
          type: "checkbox",
          checked: j.deforms,
          "aria-label": "deforms skin",
          onchange: (e) => b.step("joints.set", { joint: j.name, deforms: e.target.checked, both_sides: b.symmetry }),
        }),
      ],
    ),
    j.side !== "C"
      ? h(
          "div",
          { class: "acts" },
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

const RULES = {
  bend: "the plane of the bend",
  up: "level, third axis up",
  "world x": "the world's x",
  "world y": "the world's y",
  "world z": "the world's z",
  copy: "another joint's",
  keep: "as it is",
};
const AXES = ["x", "y", "z", "-x", "-y", "-z"];

function turnTab(b, j, child) {
  const t = (b.turning ??= { rule: "bend", chain: false, like: "" });
  const axis = (label, now, act) =>
    h(
      "select",
      { "aria-label": label, onchange: (e) => act(e.target.value) },
      AXES.map((a) => h("option", { value: a, selected: a === now }, a.replace("-", "−"))),
    );
  const apply = (extra = {}) =>
    b.step("joints.orient", {
      joints: [j.name],
      rule: t.rule,
      like: t.rule === "copy" ? t.like : "",
      down_chain: t.chain,
      both_sides: b.symmetry,
      ...extra,
    });
  return [
    pairs(
      ["bone", child ? `runs to ${plainName(child.name)}` : "as its parent"],
      ["down the bone", axis("axis down the bone", j.aim, (aim) => apply({ rule: "keep", aim }))],
      ["hinge", axis("hinge axis", j.hinge, (hinge) => apply({ rule: "keep", hinge }))],
      [
        "hinge follows",
        h(
          "select",
          {
            "aria-label": "what the hinge follows",
            style: "width:150px",
            onchange: (e) => {
              t.rule = e.target.value;
              b.sheets();
            },
          },
          Object.entries(RULES).map(([k, w]) => h("option", { value: k, selected: k === t.rule }, w)),
        ),
      ],
      t.rule === "copy"
        ? [
            "of",
            h("input", {
              type: "text",
              list: "joint-names",
              value: t.like,
              style: "width:150px",
              "aria-label": "copy from",
              onchange: (e) => {
                t.like = e.target.value;
              },
            }),
          ]
        : null,
    ),
    choices({ one: "this joint", chain: "and all below" }, t.chain ? "chain" : "one", (k) => {
      t.chain = k === "chain";
      b.sheets();
    }),
    h(
      "div",
      { class: "acts" },
      button("Turn it so", () => apply(), "mend small"),
      button("Turn the hinge round", () => apply({ rule: "keep", flip: true }), "small"),
      b.plate.axesShown
        ? null
        : button(
            "Show axes",
            () => {
              b.plate.axesShown = true;
              b.plate.draw();
              b.dock();
              b.sheets();
            },
            "small",
          ),
    ),
    h("h3", {}, "Rotation order"),
    gimbal(b, j),
  ];
}

/** How far each order keeps from gimbal lock over the joint's range. */
function gimbal(b, j) {
  const box = h("div", {}, h("p", { class: "soft" }, "Measuring …"));
  call("GET", `/api/c/${b.number}/gimbal/${encodeURIComponent(j.name)}`)
    .then((margins) => {
      box.replaceChildren(
        ...Object.entries(margins).map(([order, d]) =>
          h(
            "div",
            { class: "gimbal" },
            h(
              "button",
              {
                class: "small",
                "aria-pressed": String(order === j.order),
                onclick: () => b.step("joints.set", { joint: j.name, order, both_sides: b.symmetry }),
              },
              order,
            ),
            h("span", { class: "bar" }, h("i", { style: `width:${Math.max(3, (100 * d) / 90)}%` })),
            h("span", { class: "fig" }, `${d.toFixed(0)}°`),
          ),
        ),
        h("p", { class: "soft" }, "degrees kept from lock over the range; 0 is locked"),
      );
    })
    .catch(say);
  return box;
}

function freeTab(b, j) {
  const f = j.freedom ?? {
    low: [null, null, null],
    high: [null, null, null],
    locked: [false, false, false],
    stiffness: 0,
    source: "",
  };
  const cell = (k, which) =>
    h("input", {
      type: "number",
      step: 1,
      value: degrees(f[which][k]),
      placeholder: "free",
      "aria-label": `${which} limit about ${"xyz"[k]}, degrees`,
      onchange: () => set(),
    });
  const rows = [0, 1, 2].map((k) => ({
    low: cell(k, "low"),
    high: cell(k, "high"),
    lock: h("input", {
      type: "checkbox",
      checked: f.locked[k],
      "aria-label": `lock ${"xyz"[k]}`,
      onchange: () => set(),
    }),
  }));
  const stiff = h("input", {
    type: "range",
    min: 0,
    max: 1,
    step: 0.05,
    value: String(f.stiffness),
    "aria-label": "stiffness",
    onchange: () => set(),
  });
  const number = (x) => (x.value === "" ? null : Number(x.value));
  const set = () =>
    b.step("joints.free", {
      joint: j.name,
      low: rows.map((r) => number(r.low)),
      high: rows.map((r) => number(r.high)),
      locked: rows.map((r) => r.lock.checked),
      stiffness: Number(stiff.value),
      both_sides: b.symmetry,
    });
  return [
    h(
      "table",
      { class: "freedom" },
      h(
        "tr",
        {},
        ["", "from °", "to °", "lock"].map((t) => h("th", {}, t)),
      ),
      ...rows.map((r, k) =>
        h(
          "tr",
          {},
          h(
            "th",
            {},
            `${"xyz"[k]}${j.hinge.at(-1) === "xyz"[k] ? " hinge" : j.aim.at(-1) === "xyz"[k] ? " bone" : ""}`,
          ),
          h("td", {}, r.low),
          h("td", {}, r.high),
          h("td", {}, r.lock),
        ),
      ),
    ),
    range(j, f),
    pairs(["stiffness", stiff], f.source ? ["from", f.source] : null),
    h(
      "div",
      { class: "acts" },
      button("±10°, a stiff link", () => b.step("joints.stiffen", { joints: [j.name] }), "small"),
      button("Free it", () => b.step("joints.free", { joint: j.name, both_sides: b.symmetry }), "small"),
    ),
    h("h3", {}, "Whole skeleton"),
    h(
      "div",
      { class: "acts" },
      button("Normal ranges of people", () => b.step("joints.free_by_table", { table: "people" }), "small"),
      button("A dog's", () => b.step("joints.free_by_table", { table: "dog" }), "small"),
    ),
  ];
}

/** The hinge's range as a fan: rest is straight up. */
function range(j, f) {
  const k = "xyz".indexOf(j.hinge.at(-1)),
    low = f.low[k],
    high = f.high[k];
  if (low === null || high === null) return null;
  const at = (a, r) => `${(60 + r * Math.sin(a)).toFixed(1)} ${(56 - r * Math.cos(a)).toFixed(1)}`,
    big = high - low > Math.PI ? 1 : 0;
  const box = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  box.setAttribute("viewBox", "0 0 120 112");
  box.setAttribute("class", "fan");
  box.setAttribute("role", "img");
  box.setAttribute("aria-label", `hinge from ${degrees(low)} to ${degrees(high)} degrees`);
  const draw = (tagName, attributes) => {
    const node = document.createElementNS(box.namespaceURI, tagName);
    for (const [n, v] of Object.entries(attributes)) node.setAttribute(n, v);
    box.append(node);
  };
  draw("path", {
    d: `M60 56 L${at(low, 46)} A46 46 0 ${big} 1 ${at(high, 46)} Z`,
    fill: "#fbe4d2",
    stroke: "#c8481a",
    "stroke-width": 1.5,
  });
  draw("path", { d: `M60 56 L${at(0, 50)}`, stroke: "#22303c", "stroke-width": 2 });
  draw("path", {
    d: `M60 56 L${at((low + high) / 2, 46)}`,
    stroke: "#c8481a",
    "stroke-width": 1,
    "stroke-dasharray": "3 3",
  });
  return box;
}

function boneTab(b, j, child) {
  const n = plain("into pieces", 2, { min: 2, max: 61, step: 1 });
  const parents = h("input", {
    type: "text",
    list: "joint-names",
    value: j.parent ?? "",
    placeholder: "nothing: a root",
    style: "width:150px",
    "aria-label": "hangs from",
    onchange: (e) => b.step("joints.reparent", { joint: j.name, parent: e.target.value, both_sides: b.symmetry }),
  });
  return [
    pairs(["hangs from", parents]),
    child ? pairs(["split into", n]) : null,
    h(
      "div",
      { class: "acts" },
      child
        ? button(
            "Split the bone",
            () => b.step("joints.insert", { joint: j.name, count: Number(n.value) - 1, both_sides: b.symmetry }),
            "small",
          )
        : button("Go on from here", () => b.step("joints.extend", { joint: j.name, both_sides: b.symmetry }), "small"),
      button(
        "Draw from here",
        () => {
          b.useTool("draw");
          DRAW.parent = j.name;
          DRAW.start = j.place;
          DRAW.show();
          b.sheets();
        },
        "small",
      ),
    ),
    h(
      "div",
      { class: "acts" },
      button("Take out, heal", () => b.step("joints.remove", { joint: j.name, both_sides: b.symmetry }), "small"),
      button(
        "Take out with all below",
        () => b.step("joints.remove_chain", { joint: j.name, both_sides: b.symmetry }),
        "small",
      ),
    ),
    b.state.joints.some((x) => x.name === j.name && x.side !== "C") || child
      ? h(
          "div",
          { class: "acts" },
          button("Try other pivots", () => tryPivot(b), "small"),
        )
      : null,
  ];
}

function jointSheet(b) {
  const j = b.state.joints.find((x) => x.name === b.plate.selected.joint);
  if (!j)
    return [
      h("h2", {}, "Joint"),
      h(
        "p",
        { class: "empty" },
        b.state.joints.length
          ? "Choose a ring on the plate, or a name in the hierarchy, and drag it in any drawing."
          : "First choose a plan, or draw a chain.",
      ),
    ];
  const child = b.state.joints.find((x) => x.parent === j.name),
    tab = b.jointTab ?? "place";
  return [
    h("h2", {}, plainName(j.name), " ", tag(j.side)),
    h(
      "p",
      { class: "soft" },
      [j.parent ? `child of ${plainName(j.parent)}` : "root of all", j.deforms ? "deforms skin" : "helps"].join(" · "),
    ),
    choices(TABS, tab, (k) => {
      b.jointTab = k;
      b.sheets();
    }),
    ...{ place: placeTab, turn: turnTab, free: freeTab, bone: boneTab }[tab](b, j, child),
    h(
      "datalist",
      { id: "joint-names" },
      b.state.joints.map((x) => h("option", { value: x.name })),
    ),
    h(
      "datalist",
      { id: "roles" },
      [...new Set(b.state.joints.map((x) => x.role))].filter(Boolean).map((r) => h("option", { value: r })),
    ),
  ];
}

export const joints = {
  rest: true,
  layers: { joints: true },
  left: (b) => [
    h("h2", {}, "Hierarchy"),
    ...(b.state.joints.length
      ? [
          filtered(b, "jointFilter", `Filter ${b.state.joints.length} joints …`),
          fold(b, "Names", ...namesSheet(b)),
          hierarchy(
            b,
            () => null,
            (joint, parent) => b.step("joints.reparent", { joint, parent, both_sides: b.symmetry }),
          ),
          h("p", { class: "soft" }, "Drag a name onto another to hang it there."),
        ]
      : noJoints(b)),
  ],
  right: (b) => jointSheet(b),
  dock: (b) => [
    { label: "Choose", tool: true, on: !b.tool, act: () => b.useTool(null) },
    {
      label: "Draw a chain",
      tool: true,
      on: b.tool === DRAW,
      title: DRAW.hint,
      act: () => b.useTool(b.tool === DRAW ? null : "draw"),
    },
    {
      label: "Plans",
      tool: true,
      on: b.tool === PLANS,
      title: "Lay a plan, or one of your own",
      act: () => b.useTool(b.tool === PLANS ? null : "plans"),
    },
    {
      label: "Both sides",
      on: b.symmetry,
      title: "Left moves right",
      act: () => {
        b.symmetry = !b.symmetry;
      },
    },
    {
      label: "Axes",
      on: b.plate.axesShown,
      title: "Show every joint's axes",
      act: () => {
        b.plate.axesShown = !b.plate.axesShown;
        b.plate.draw();
      },
    },
    { label: "Try pivots", title: "Swing the chosen limb about other places", act: () => tryPivot(b) },
  ],
  keys: [
    ["arrows", "move the chosen joint 1 cm (Shift: 1 mm; Alt: in depth)"],
    ["d", "draw a chain"],
    ["Enter", "finish the chain"],
    ["Backspace", "take its last joint back"],
    ["Esc", "put the tool down"],
  ],
  key: { d: "draw" },
};
