// The sheet of one board: how strength fades, where the bead may stand, what is on it.
import { curveDrawing } from "../widgets/curve.js";
import { acts, button, choices, fileButton, numberField, pairs, select, switchButton } from "../widgets/fields.js";
import { h, made } from "../widgets/html.js";
import { beadOf } from "./boards.js";

const BLENDS = { near: "The nearer, the stronger", corners: "Four corners" };
const SNAPS = { none: "free", whole: "whole steps", half: "½", third: "⅓", quarter: "¼" };

export function boardSheet(b, board) {
  const set = (more) => b.step("boards.set", { board: board.name, ...more }, { quiet: true, keepPose: true });
  const picture = board.pictures.find((q) => q.key === b.ui.boardPicture);
  const key = (was, at, value, drop = false) => {
    const rest = board.curve.keys.filter((k) => k.at !== was);
    const keys = drop ? rest : [...rest, { at: Math.max(at, 0), value }].sort((x, y) => x.at - y.at);
    set({ curve: { ...board.curve, keys } });
  };
  const drawing = {
    curves: [board.curve],
    chosen: 0,
    x: { unit: " steps", out: 1 },
    y: { unit: "", out: 1 },
    low: 0,
    high: 1,
    now: 0,
    onKey: (was, at, value) => key(was, at, value),
    onDrop: (at) => key(at, at, 0, true),
  };
  return [
    h("h2", {}, `Board ${board.name}`),
    choices(BLENDS, board.blend, (blend) => set({ blend })),
    board.blend === "near"
      ? [
          h("p", { class: "soft" }, "How strong a picture is, by the bead's distance:"),
          made(drawing, () => curveDrawing(drawing)),
          choices({ linear: "straight", smooth: "smooth" }, board.curve.manner, (manner) =>
            set({ curve: { ...board.curve, manner } }),
          ),
        ]
      : h(
          "p",
          { class: "soft" },
          "Straight along the rim from corner to corner, and from nothing in the middle out to it.",
        ),
    pairs(
      ["bead on", select("where the bead may stand", SNAPS, board.snap, (snap) => set({ snap }))],
      [
        "strength of all",
        numberField("strength of all pictures", board.strength, (strength) => set({ strength }), {
          min: 0,
          max: 3,
          step: 0.1,
        }),
      ],
    ),
    acts(switchButton("Share", board.shared, () => set({ shared: !board.shared }), "Together no more than one")),
    onBoard(b, board),
    picture ? pictureSheet(b, board, picture) : null,
    acts(button("Delete the board", () => b.step("boards.remove", { board: board.name }), "small quiet")),
  ];
}

/** What is on now, put where the bead is. */
function onBoard(b, board) {
  const sliders = Object.fromEntries(Object.entries(b.values.shapes ?? {}).filter(([, v]) => v)),
    names = Object.keys(sliders);
  if (!names.length)
    return h("p", { class: "soft" }, "Turn shapes up by their sliders to put them on it as one picture.");
  const put = () =>
    b.step("boards.add", { board: board.name, shapes: sliders, place: beadOf(b, board) }, { keepPose: true });
  return acts(button(`Put ${names.join(" + ")} where the bead is`, put, "small"));
}

function pictureSheet(b, board, q) {
  const named = Object.entries(q.shapes).map(([n, v]) => `${n} ${v}`);
  const path = `boards/${encodeURIComponent(board.name)}/pictures/${q.key}`;
  return [
    h("h3", {}, named.join(" + ") || "The face at rest"),
    acts(
      fileButton("A picture of one's own", ".png,.jpg,.jpeg", (file) => b.upload(path, [file])),
      q.own
        ? button("Drawn from the figure", () => b.step("boards.picture", { board: board.name, key: q.key }), "small")
        : null,
      button(
        "Take it off",
        () => b.step("boards.take", { board: board.name, key: q.key }, { keepPose: true }),
        "small",
      ),
    ),
  ];
}
