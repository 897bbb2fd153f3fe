// The Model station: parts, size, standing, mends, cuts, reference pictures, shading.
import { enterStation } from "../app/stations.js";
import {
  acts,
  button,
  chosenButton,
  choices,
  fileButton,
  numberField,
  pairs,
  select,
  slider,
  textField,
} from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { stepForm } from "../widgets/stepform.js";
import { toast } from "../widgets/toasts.js";
import { cm, spaced } from "../words.js";
import { folded } from "./common.js";

const SHADES = { colours: "colours", clay: "clay", texture: "texture", checker: "checker" };
const ROLES = {
  skin: "skin",
  eye: "eye",
  teeth: "teeth",
  tongue: "tongue",
  lid: "lid of a built eye",
  rigid: "rigid part",
  prop: "prop",
  line: "drawn line",
};
const MESHES = ".obj,.ply,.glb,.gltf,.svg,.zip,.bin,.mtl,.png,.jpg,.jpeg";
const PICTURES = ".png,.jpg,.jpeg";

function partRow(b, p, index) {
  const { ui } = b;
  const choose = (e) => {
    if (e.shiftKey && ui.part && ui.part !== p.name) ui.alsoParts = new Set([...ui.alsoParts, p.name]);
    else {
      ui.part = ui.part === p.name ? "" : p.name;
      ui.alsoParts = new Set();
    }
  };
  const faded = b.plate.fadedParts.has(index);
  return h(
    "li",
    { key: p.name },
    h(
      "button",
      { type: "button", "aria-selected": String(ui.part === p.name), "data-keep": `part-${p.name}`, onclick: choose },
      h("span", { class: "swatch", style: `background:${p.colour}` }),
      h("span", { class: p.hidden || faded ? "grow helper" : "grow" }, p.name),
      ui.alsoParts.has(p.name) ? h("span", { class: "soft" }, "+") : null,
      p.locked
        ? h("span", { class: "soft", title: "locked against clicks" }, "locked")
        : h("span", { class: "soft" }, faded ? "faded" : ROLES[p.role]),
    ),
  );
}

function partSheet(b, part) {
  const set = (changes) => b.step("model.part", { part: part.name, ...changes });
  const split = (by) => b.step("model.split_part", { part: part.name, by });
  const joined = [part.name, ...b.ui.alsoParts];
  const rename = async (name) => {
    if (await set({ name })) b.ui.part = name;
  };
  const join = async () => {
    await b.step("model.join_parts", { parts: joined });
    b.ui.alsoParts = new Set();
  };
  const index = b.state.parts.indexOf(part);
  const colour = h("input", {
    type: "color",
    class: "form-control form-control-sm form-control-color",
    value: part.colour,
    "aria-label": "Part colour",
    onchange: (e) => set({ colour: e.target.value }),
  });
  return [
    h("h2", {}, part.name),
    pairs(
      ["name", textField("Part name", part.name, rename)],
      ["is", select("What the part is", ROLES, part.role, (role) => set({ role }))],
      ["colour", colour],
      ["points", h("span", { class: "fig" }, spaced(part.points[1] - part.points[0]))],
    ),
    choices({ smooth: "smooth", hard: "hard edges" }, part.shading, (shading) => set({ shading })),
    acts(
      button(part.hidden ? "Show" : "Hide", () => set({ hidden: !part.hidden }), "small"),
      chosenButton("Fade", b.plate.fadedParts.has(index), () => b.fadePart(index), {
        title: "Draw it pale and let clicks through, for now",
      }),
      button(part.locked ? "Unlock" : "Lock", () => set({ locked: !part.locked }), "small"),
      button("Turn faces over", () => b.step("model.flip", { part: part.name }), "small"),
    ),
    acts(
      button("Split by island", () => split("island"), "small"),
      b.state.groups > 1 ? button("Split by group", () => split("group"), "small") : null,
      joined.length > 1 ? button(`Join ${joined.length} parts`, join, "mend small") : null,
      b.state.parts.length > 1
        ? button("Take out", () => b.step("model.remove_part", { part: part.name }), "small")
        : null,
    ),
    joined.length > 1 ? null : h("p", { class: "soft" }, "Shift-click other parts to join them to it."),
  ];
}

function pictureSheet(b, q) {
  const set = (changes) => b.step("model.picture", { picture: q.name, ...changes }, { quiet: true });
  const away = async () => {
    await b.step("model.remove_picture", { picture: q.name });
    b.ui.picture = "";
  };
  return [
    h("h2", {}, q.name),
    pairs(
      ["drawing", q.view],
      ["width, cm", numberField("picture width", cm(q.width), (v) => set({ width: v / 100 }))],
      ["right, cm", numberField("picture right", cm(q.place[0]), (v) => set({ place: [v / 100, q.place[1]] }))],
      ["up, cm", numberField("picture up", cm(q.place[1]), (v) => set({ place: [q.place[0], v / 100] }))],
      [
        "strength",
        slider("picture strength", q.strength, {
          low: 0.1,
          high: 1,
          step: 0.05,
          onchange: (e) => set({ strength: Number(e.target.value) }),
        }),
      ],
    ),
    acts(
      button(q.hidden ? "Show" : "Hide", () => set({ hidden: !q.hidden }), "small"),
      button("Take away", away, "small"),
    ),
  ];
}

const tidy = (b) => [
  stepForm(b, "model.weld", {
    label: "Weld",
    fields: { millimetres: "within, mm" },
    values: { millimetres: 0.1 },
    more: { millimetres: { "aria-label": "weld within, mm" } },
    beside: [
      button("Faces outward", () => b.step("model.outward", {}), "small"),
      button("Strays away", () => b.step("model.clear_strays", {}), "small"),
      button("Settle", () => b.step("model.settle", {}), "small"),
    ],
  }),
  stepForm(b, "model.symmetrise", {
    label: "Left and right equal",
    fields: { millimetres: "partners, mm", side: "stays" },
    values: { millimetres: 10 },
    options: {
      side: [
        ["both", "the mean of both"],
        ["left", "keep the left"],
        ["right", "keep the right"],
      ],
    },
  }),
];

const UPS = [
  ["y", "Y is up"],
  ["z", "Z is up"],
  ["-z", "−Z is up"],
  ["x", "X is up"],
  ["-x", "−X is up"],
  ["-y", "−Y is up"],
];
const standing = (b) => [
  acts(button("Ground and centre", () => b.step("model.stand", {}), "small")),
  stepForm(b, "model.stand", { label: "Stand it up", fields: { up: "now" }, options: { up: UPS } }),
  stepForm(b, "model.stand", { label: "Turn it", fields: { turn: "turn by, °" }, values: { turn: 90 } }),
];

function sizeSheet(b) {
  const [w, tall, long] = b.state.size;
  const row = (measure, now) => [
    `${measure}, cm`,
    numberField(`${measure}, cm`, cm(now), (v) => b.step("model.resize", { measure, metres: v / 100 })),
  ];
  return [
    h("h2", {}, "Real size"),
    pairs(row("height", tall), row("width", w), row("length", long)),
    h("p", { class: "soft" }, "Type what you know, or measure on the plate; everything scales, and scale stays 1."),
    folded(b, "Standing", standing(b)),
    folded(b, "Tidy up", tidy(b)),
  ];
}

function pictureRow(b, q) {
  const choose = () => {
    b.ui.picture = b.ui.picture === q.name ? "" : q.name;
    b.ui.part = "";
  };
  return h(
    "li",
    { key: q.name },
    h(
      "button",
      { type: "button", "aria-selected": String(b.ui.picture === q.name), onclick: choose },
      h("span", { class: q.hidden ? "grow helper" : "grow" }, q.name),
      h("span", { class: "soft" }, q.view),
    ),
  );
}

function shade(b, key) {
  b.ui.shade = key;
  b.plate.setValues(null, key);
  if (key === "texture" && !b.state.texture) toast("No texture yet: choose a picture below.");
}

function left(b) {
  const { state, ui } = b;
  const setView = (v) => {
    ui.pictureView = v;
  };
  return [
    h("h2", {}, "Parts"),
    h(
      "ul",
      { class: "rows" },
      state.parts.map((p, i) => partRow(b, p, i)),
    ),
    h("p", { class: "soft" }, `${spaced(state.counts.points)} points, ${spaced(state.counts.faces)} faces`),
    acts(fileButton("Bring in more", MESHES, (...files) => b.upload("parts", files))),
    h("h3", {}, "Reference pictures"),
    state.pictures.length
      ? h(
          "ul",
          { class: "rows" },
          state.pictures.map((q) => pictureRow(b, q)),
        )
      : h("p", { class: "soft" }, "None. One lies under a drawing, to scale."),
    acts(
      select("under which drawing", { front: "front", side: "side", top: "top" }, ui.pictureView, setView, {
        style: "width:86px",
      }),
      fileButton("Lay one under", PICTURES, (f) => b.upload("pictures", [f], { view: ui.pictureView })),
    ),
    h("h3", {}, "Shading"),
    choices(SHADES, ui.shade, (k) => shade(b, k)),
    acts(fileButton("Texture …", PICTURES, (f) => b.upload("texture", [f]))),
  ];
}

function right(b) {
  const part = b.state.parts.find((p) => p.name === b.ui.part),
    picture = b.state.pictures.find((q) => q.name === b.ui.picture);
  if (part) return partSheet(b, part);
  return picture ? pictureSheet(b, picture) : sizeSheet(b);
}

enterStation("model", {
  rest: true,
  fields: { part: "", alsoParts: new Set(), picture: "", pictureView: "front", shade: "colours" },
  shading: (b) => b.ui.shade,
  left,
  right,
  fade: (b) => {
    const index = b.state.parts.findIndex((p) => p.name === b.ui.part);
    if (index < 0) toast("Choose a part first.");
    else b.fadePart(index);
  },
  keys: [["Esc", "put the tool down"]],
});
