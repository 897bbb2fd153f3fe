// The Shapes station: morph targets made, sculpted, blended and put on boards.
import { actionButton } from "../app/actions.js";
import { enterStation } from "../app/stations.js";
import { acts, form, own, pairs, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { boardSheet } from "./boardsheet.js";
import { folding } from "./common.js";
import { chosenShape, regionActs, regionList, shapeList, showShapeMap } from "./shapelist.js";
import { correctiveSheet, shapeSheet, strength } from "./shapesheet.js";

const MESHES = ".obj,.ply,.glb,.gltf,.zip,.bin";
const MOST = 40; // sliders shown at once

// -- left ------------------------------------------------------------------------------------------------------------
function left(b) {
  return [
    h("h2", {}, "Shapes"),
    b.state.shapes.length
      ? shapeList(b)
      : h(
          "p",
          { class: "empty" },
          "No shapes yet. Begin one and sculpt it, or bring in the same mesh with points moved.",
        ),
    beginOne(b),
    folding(b, "shapes-bring", "Bring one in", bringIn(b)),
    h("h3", {}, "Regions"),
    regionList(b),
    regionActs(b),
    h("h3", {}, "Boards"),
    boardList(b),
  ];
}

function beginOne(b) {
  const begin = async ({ name }) => {
    if (!name.trim()) {
      toast("Name the shape first.");
      return false;
    }
    const heading = chosenShape(b)?.heading ?? "";
    const known = new Set(b.state.shapes.map((s) => s.name));
    if (!(await b.step("shapes.new", { name: name.trim(), heading, region: b.ui.region }, { keepPose: true })))
      return false;
    b.ui.shape = b.state.shapes.find((s) => !known.has(s.name))?.name ?? "";
    b.useTool("sculpt");
    return true;
  };
  return form(
    begin,
    h(
      "div",
      { class: "one-line" },
      own.text("name", "Name of the new shape", { placeholder: "smile, blink …" }),
      submit("Begin", "mend small"),
    ),
  );
}

function bringIn(b) {
  const send = async (_said, at) => {
    const { files } = at.elements.namedItem("file"),
      rest = at.elements.namedItem("rest").files[0];
    if (!files.length) {
      toast("Choose a mesh first.");
      return false;
    }
    const more = rest ? { rest } : {};
    return b.upload("shape", files, { name: at.elements.namedItem("name").value, ...more });
  };
  return form(
    send,
    own.file("file", "Mesh of the shape", MESHES, { multiple: true }),
    own.text("name", "Shape name", { placeholder: "name, as the file" }),
    h("label", { class: "soft" }, "Its points stand in another order? Then its mesh at rest, too:"),
    own.file("rest", "Its mesh at rest", MESHES),
    acts(submit("Add the shape", "mend small")),
  );
}

function boardList(b) {
  const { boards, shapes } = b.state;
  const open = (x) => b.ui.put("openBoards", x.name, !b.ui.openBoards.has(x.name));
  const make = async ({ name }) => {
    const title = name.trim() || b.ui.region || "face";
    if (!(await b.step("boards.make", { name: title, region: b.ui.region }, { keepPose: true }))) return false;
    const board = b.state.boards.at(-1);
    b.ui.put("openBoards", board.name, true);
    b.ui.board = board.name;
    return true;
  };
  const row = (x) =>
    h(
      "li",
      { key: x.name },
      h(
        "button",
        {
          type: "button",
          "aria-selected": String(b.ui.openBoards.has(x.name)),
          onclick: () => {
            b.ui.board = x.name;
            open(x);
          },
        },
        h("span", { class: "grow" }, x.name),
        h("span", { class: "fig soft" }, String(x.pictures.length)),
      ),
    );
  if (!shapes.length) return h("p", { class: "empty" }, "A board shows pictures of shapes: sculpt some first.");
  return [
    boards.length ? h("ul", { class: "rows" }, boards.map(row)) : null,
    form(
      make,
      h(
        "div",
        { class: "one-line" },
        own.text("name", "Name of the new board", { placeholder: b.ui.region || "face" }),
        submit("Make it", "small"),
      ),
    ),
    shapes.length >= 4 ? folding(b, "boards-square", "A square of four", squareForm(b)) : null,
  ];
}

const CORNERS = ["top left", "top right", "below left", "below right"];

/** Four shapes in the corners of a square, such as open and shut, wide and narrow. */
function squareForm(b) {
  const names = b.state.shapes.map((s) => [s.name, s.name]);
  const make = async (said) => {
    const corners = CORNERS.map((c) => said[c]);
    const params = { name: said.name.trim() || "mouth", region: b.ui.region, shapes: corners, corners: true };
    if (!(await b.step("boards.make", params, { keepPose: true }))) return false;
    b.ui.board = b.state.boards.at(-1).name;
    b.ui.put("openBoards", b.ui.board, true);
    return true;
  };
  return form(
    make,
    pairs(...CORNERS.map((c, i) => [c, own.select(c, `shape ${c}`, names, { now: names[i]?.[0] })])),
    h(
      "div",
      { class: "one-line" },
      own.text("name", "Name of the square", { placeholder: "mouth" }),
      submit("Make it", "small"),
    ),
  );
}

// -- right -----------------------------------------------------------------------------------------------------------
function right(b) {
  const shape = chosenShape(b),
    board = b.state.boards.find((x) => x.name === b.ui.board && b.ui.openBoards.has(x.name));
  return [shape ? shapeSheet(b, shape) : allStrengths(b), board ? boardSheet(b, board) : null];
}

function allStrengths(b) {
  const { shapes } = b.state;
  return [
    h("h2", {}, "Strength"),
    shapes.length
      ? shapes.slice(0, MOST).map((s) => strength(b, s))
      : h("p", { class: "empty" }, "A slider for each shape stands here."),
    shapes.length > MOST ? h("p", { class: "soft" }, `The first ${MOST}: choose one on the left.`) : null,
    acts(actionButton(b, "rest")),
  ];
}

enterStation("shapes", {
  large: "free",
  strip: true,
  layers: { controls: false },
  shading: () => "colours",
  keepsValues: (b) => !!b.ui.shapeMap,
  fields: {
    shape: "",
    region: "",
    shapeMap: "", // what of it is shown on the mesh: what it moves, where it trespasses, a region
    foldedShapes: new Set(),
    board: "",
    openBoards: new Set(),
    arranging: false,
    boardPicture: "",
    movedPicture: null,
    heldBoard: null,
    beadFrom: new Map(),
    passed: new Map(),
  },
  left,
  right: (b) => [right(b), correctiveSheet(b)],
  shown: (b) => {
    if (b.ui.shapeMap) showShapeMap(b);
  },
  picked: (b, name) => b.tool?.pick?.(name),
});
