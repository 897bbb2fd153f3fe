// The Model station: parts, size, standing, mends, cuts, reference pictures, shading.
import { cm, h, spaced, toast } from "../dom.js";
import { MESH_TOOLS } from "../tools/mesh.js";
import { ROLES, button, choices, fileButton, fold, numberField, pairs, plain, upload } from "./common.js";

const SHADES = { colours: "colours", clay: "clay", texture: "texture", checker: "checker" };

const partRow = (b, p) =>
  h(
    "li",
    {},
    h(
      "button",
      {
        "aria-selected": String(b.part === p.name),
        "data-keep": `part-${p.name}`,
        onclick: (e) => {
          if (e.shiftKey && b.part && b.part !== p.name) b.alsoParts = new Set([...(b.alsoParts ?? []), p.name]);
          else {
            b.part = b.part === p.name ? "" : p.name;
            b.alsoParts = new Set();
          }
          b.sheets();
        },
      },
      h("span", { style: `width:13px;height:13px;border-radius:4px;flex:none;background:${p.colour}` }),
      h("span", { class: p.hidden ? "grow helper" : "grow" }, p.name),
      b.alsoParts?.has(p.name) ? h("span", { class: "soft" }, "+") : null,
      p.locked
        ? h("span", { class: "soft", title: "locked against clicks" }, "locked")
        : h("span", { class: "soft" }, ROLES[p.role]),
    ),
  );

function partSheet(b, part) {
  const set = (changes) => b.step("model.part", { part: part.name, ...changes });
  const joined = [part.name, ...(b.alsoParts ?? [])];
  return [
    h("h2", {}, part.name),
    pairs(
      [
        "name",
        h("input", {
          type: "text",
          value: part.name,
          maxlength: 60,
          style: "width:150px",
          "aria-label": "Part name",
          onchange: async (e) => {
            const name = e.target.value;
            if (await set({ name })) b.part = name;
            b.sheets();
          },
        }),
      ],
      [
        "is",
        h(
          "select",
          { "aria-label": "What the part is", onchange: (e) => set({ role: e.target.value }) },
          Object.entries(ROLES).map(([k, t]) => h("option", { value: k, selected: k === part.role }, t)),
        ),
      ],
      [
        "colour",
        h("input", {
          type: "color",
          value: part.colour,
          "aria-label": "Part colour",
          onchange: (e) => set({ colour: e.target.value }),
        }),
      ],
      ["points", h("span", { class: "fig" }, spaced(part.points[1] - part.points[0]))],
    ),
    choices({ smooth: "smooth", hard: "hard edges" }, part.shading, (shading) => set({ shading })),
    h(
      "div",
      { class: "acts" },
      button(part.hidden ? "Show" : "Hide", () => set({ hidden: !part.hidden }), "small"),
      button(part.locked ? "Unlock" : "Lock", () => set({ locked: !part.locked }), "small"),
      button("Turn faces over", () => b.step("model.flip", { part: part.name }), "small"),
    ),
    h(
      "div",
      { class: "acts" },
      button("Split by island", () => b.step("model.split_part", { part: part.name, by: "island" }), "small"),
      b.state.groups > 1
        ? button("Split by group", () => b.step("model.split_part", { part: part.name, by: "group" }), "small")
        : null,
      joined.length > 1
        ? button(
            `Join ${joined.length} parts`,
            async () => {
              await b.step("model.join_parts", { parts: joined });
              b.alsoParts = new Set();
              b.sheets();
            },
            "mend small",
          )
        : null,
      b.state.parts.length > 1
        ? button("Take out", () => b.step("model.remove_part", { part: part.name }), "small")
        : null,
    ),
    joined.length > 1 ? null : h("p", { class: "soft" }, "Shift-click other parts to join them to it."),
  ];
}

function pictureSheet(b, q) {
  const set = (changes) => b.step("model.picture", { picture: q.name, ...changes }, { quiet: true });
  return [
    h("h2", {}, q.name),
    pairs(
      ["drawing", q.view],
      ["width, cm", numberField("picture width", cm(q.width), "cm", (v) => set({ width: v / 100 }))],
      ["right, cm", numberField("picture right", cm(q.place[0]), "cm", (v) => set({ place: [v / 100, q.place[1]] }))],
      ["up, cm", numberField("picture up", cm(q.place[1]), "cm", (v) => set({ place: [q.place[0], v / 100] }))],
      [
        "strength",
        h("input", {
          type: "range",
          min: 0.1,
          max: 1,
          step: 0.05,
          value: String(q.strength),
          "aria-label": "picture strength",
          onchange: (e) => set({ strength: Number(e.target.value) }),
        }),
      ],
    ),
    h(
      "div",
      { class: "acts" },
      button(q.hidden ? "Show" : "Hide", () => set({ hidden: !q.hidden }), "small"),
      button(
        "Take away",
        async () => {
          await b.step("model.remove_picture", { picture: q.name });
          b.picture = "";
          b.sheets();
        },
        "small",
      ),
    ),
  ];
}

function tidy(b) {
  const weld = plain("weld within, mm", 0.1, { step: "any", min: 0.001 }),
    even = plain("partners within, mm", 10, { step: "any", min: 0.01 });
  const side = h(
    "select",
    { "aria-label": "which side stays" },
    Object.entries({ both: "the mean of both", left: "keep the left", right: "keep the right" }).map(([k, t]) =>
      h("option", { value: k }, t),
    ),
  );
  return [
    pairs(["within, mm", weld]),
    h(
      "div",
      { class: "acts" },
      button("Weld", () => b.step("model.weld", { millimetres: Number(weld.value) }), "small"),
      button("Faces outward", () => b.step("model.outward", {}), "small"),
      button("Strays away", () => b.step("model.clear_strays", {}), "small"),
      button("Settle", () => b.step("model.settle", {}), "small"),
    ),
    pairs(["partners, mm", even], ["", side]),
    h(
      "div",
      { class: "acts" },
      button(
        "Left and right equal",
        () => b.step("model.symmetrise", { millimetres: Number(even.value), side: side.value }),
        "small",
      ),
    ),
  ];
}

function standing(b) {
  const turn = plain("turn by, °", 90, { step: 5 });
  const up = h(
    "select",
    { "aria-label": "which axis points up now" },
    Object.entries({
      y: "Y is up",
      z: "Z is up",
      "-z": "−Z is up",
      x: "X is up",
      "-x": "−X is up",
      "-y": "−Y is up",
    }).map(([k, t]) => h("option", { value: k }, t)),
  );
  return [
    h(
      "div",
      { class: "acts" },
      button("Ground and centre", () => b.step("model.stand", {}), "small"),
    ),
    pairs(["now", up], ["turn by, °", turn]),
    h(
      "div",
      { class: "acts" },
      button("Stand it up", () => b.step("model.stand", { up: up.value }), "small"),
      button("Turn it", () => b.step("model.stand", { turn: Number(turn.value) }), "small"),
    ),
  ];
}

export const model = {
  rest: true,
  get shading() {
    return this.chosen ?? "colours";
  },
  left: (b) => {
    const view = h(
      "select",
      { "aria-label": "under which drawing", style: "width:82px" },
      ["front", "side", "top"].map((v) => h("option", { value: v }, v)),
    );
    return [
      h("h2", {}, "Parts"),
      h(
        "ul",
        { class: "rows" },
        b.state.parts.map((p) => partRow(b, p)),
      ),
      h("p", { class: "soft" }, `${spaced(b.state.counts.points)} points, ${spaced(b.state.counts.faces)} faces`),
      h(
        "div",
        { class: "acts" },
        ...fileButton("Bring in more", ".obj,.ply,.glb,.gltf,.svg,.zip,.bin,.mtl,.png,.jpg,.jpeg", (...f) =>
          upload(b, "parts", f),
        ),
      ),
      h("h3", {}, "Reference pictures"),
      ...(b.state.pictures.length
        ? [
            h(
              "ul",
              { class: "rows" },
              b.state.pictures.map((q) =>
                h(
                  "li",
                  {},
                  h(
                    "button",
                    {
                      "aria-selected": String(b.picture === q.name),
                      onclick: () => {
                        b.picture = b.picture === q.name ? "" : q.name;
                        b.part = "";
                        b.sheets();
                      },
                    },
                    h("span", { class: q.hidden ? "grow helper" : "grow" }, q.name),
                    h("span", { class: "soft" }, q.view),
                  ),
                ),
              ),
            ),
          ]
        : [h("p", { class: "soft" }, "None. One lies under a drawing, to scale.")]),
      h(
        "div",
        { class: "acts" },
        view,
        ...fileButton("Lay one under", ".png,.jpg,.jpeg", (f) => upload(b, "pictures", [f], { view: view.value })),
      ),
      h("h3", {}, "Shading"),
      choices(SHADES, model.chosen ?? "colours", (k) => {
        model.chosen = k;
        b.plate.setValues(null, k);
        if (k === "texture" && !b.state.texture) toast("No texture yet: choose a picture below.");
        b.sheets();
      }),
      h("div", { class: "acts" }, ...fileButton("Texture …", ".png,.jpg,.jpeg", (f) => upload(b, "texture", [f]))),
    ];
  },
  right: (b) => {
    const part = b.state.parts.find((p) => p.name === b.part),
      picture = b.state.pictures.find((q) => q.name === b.picture),
      [w, tall, long] = b.state.size;
    const set = (measure) => (v) => b.step("model.resize", { measure, metres: v / 100 });
    return [
      ...(part
        ? partSheet(b, part)
        : picture
          ? pictureSheet(b, picture)
          : [
              h("h2", {}, "Real size"),
              pairs(
                ["height, cm", numberField("height", cm(tall), "cm", set("height"))],
                ["width, cm", numberField("width", cm(w), "cm", set("width"))],
                ["length, cm", numberField("length", cm(long), "cm", set("length"))],
              ),
              h(
                "p",
                { class: "soft" },
                "Type what you know, or measure on the plate; everything scales, and scale stays 1.",
              ),
              fold(b, "Standing", ...standing(b)),
              fold(b, "Tidy up", ...tidy(b)),
            ]),
    ];
  },
  enter: (b) => {
    if (!b.folds?.size) b.folds = new Map([["Standing", false]]);
  },
  dock: (b) => [
    { label: "Look", tool: true, on: !b.tool, act: () => b.useTool(null) },
    ...Object.values(MESH_TOOLS).map((t) => ({
      label: t.title,
      tool: true,
      on: b.tool === t,
      title: t.hint,
      act: () => b.useTool(b.tool === t ? null : t.name),
    })),
  ],
  keys: [
    ["m", "measure"],
    ["e", "slide in an edge loop"],
    ["Esc", "put the tool down"],
  ],
  key: { m: "measure", e: "loop" },
};
