// Picture boards: over the plate, moved and sized by their heads and corners; a bead is moved over pictures.
import { dragged } from "../widgets/drag.js";
import { acts, button, switchButton } from "../widgets/fields.js";
import { byId, h } from "../widgets/html.js";
import { asked } from "./shapelist.js";

const STEPS = { none: 0, whole: 1, half: 1 / 2, third: 1 / 3, quarter: 1 / 4 };
const ROOM = 0.5; // steps of paper round the outermost pictures
const FINE = 0.05; // steps that a picture is put to
const HELD = 12; // frames that a jump holds either picture

const channelsOf = (board) => `board:${board.name}`;

/** Where the bead of a board is, steps. */
export function beadOf(b, board) {
  const at = b.values[channelsOf(board)] ?? {};
  return [at.across ?? 0, at.up ?? 0];
}

const snapped = (board, at) => {
  const step = STEPS[board.snap];
  return step ? at.map((v) => Math.round(v / step) * step) : at;
};

const within = (board, at) => at.map((v, k) => Math.min(Math.max(v, board.low[k]), board.high[k]));

/**
 * Move a bead; once the hand lets go the pose is kept, and what it passed over is asked.
 * @param {any} b @param {any} board @param {number[]} place @param {boolean} keep
 */
export async function setBead(b, board, place, keep) {
  const [across, up] = within(board, place);
  b.trial = "";
  b.values = { ...b.values, [channelsOf(board)]: { across, up } };
  b.pose();
  if (!keep) return;
  const from = b.ui.beadFrom.get(board.name) ?? [0, 0];
  b.keepPose(`Moved the bead of ${board.name}`);
  b.ui.beadFrom.set(board.name, [across, up]);
  const way = `x0=${from[0]}&y0=${from[1]}&x1=${across}&y1=${up}`;
  const told = await asked(`/api/c/${b.number}/boards/${encodeURIComponent(board.name)}/passes?${way}`);
  b.ui.passed.set(board.name, told?.over.length ? { over: told.over, from, to: [across, up] } : null);
  b.ui.touch("passed");
}

/** A motion in which the bead is held and then jumps. */
function jump(b, board, { from, to }) {
  const rows = Array.from({ length: 2 * HELD }, (_, i) => (i < HELD ? from : to));
  const tracks = ["across", "up"].map((channel) => ({ thing: channelsOf(board), channel }));
  return b.step("motion.add", { name: `jump on ${board.name}`, rate: 24, tracks, values: { npy: npyOf(rows) } });
}

/** Rows of numbers as the bytes of an .npy file, base64. */
function npyOf(rows) {
  const head = `{'descr': '<f8', 'fortran_order': False, 'shape': (${rows.length}, ${rows[0].length}), }`;
  const padded = head.padEnd(Math.ceil((head.length + 11) / 64) * 64 - 11) + "\n";
  const text = `\x93NUMPY\x01\x00${String.fromCharCode(padded.length & 255, padded.length >> 8)}${padded}`;
  const numbers = new Uint8Array(new Float64Array(rows.flat()).buffer);
  return btoa(text + String.fromCharCode(...numbers));
}

/** How many pixels a step is, and where a place lies in the sheet. */
function sheetOf(board, side) {
  const wide = board.high[0] - board.low[0] + 2 * ROOM,
    high = board.high[1] - board.low[1] + 2 * ROOM,
    cell = side / Math.max(wide, high);
  return {
    cell,
    width: cell * wide,
    height: cell * high,
    left: (x) => (x - board.low[0] + ROOM) * cell,
    top: (y) => (board.high[1] + ROOM - y) * cell,
    place: (px, py) => [px / cell + board.low[0] - ROOM, board.high[1] + ROOM - py / cell],
  };
}

function shown(b, board, q, sheet) {
  const names = Object.keys(q.shapes),
    on = strengthOf(b, board, q),
    size = 0.74 * sheet.cell;
  const src = `/api/c/${b.number}/boards/${encodeURIComponent(board.name)}/pictures/${q.key}?v=${q.seal}`;
  const [x, y] = b.ui.movedPicture?.key === q.key ? b.ui.movedPicture.place : q.place;
  const take = (e) => {
    b.ui.boardPicture = q.key;
    if (!b.ui.arranging) return;
    e.stopPropagation();
    e.preventDefault();
    dragged(e, (at, done) => {
      const place = sheet.place(at.x, at.y).map((v) => Number((Math.round(v / FINE) * FINE).toFixed(2)));
      b.ui.movedPicture = { key: q.key, place };
      if (!done) return;
      const kept = b.step("boards.move", { board: board.name, places: { [q.key]: place } }, { keepPose: true });
      kept.then(() => {
        b.ui.movedPicture = null;
      });
    });
  };
  return h(
    "figure",
    {
      key: q.key,
      class: `board-picture${b.ui.arranging ? " arranging" : ""}${b.ui.boardPicture === q.key ? " chosen" : ""}`,
      style: `left:${sheet.left(x)}px; top:${sheet.top(y)}px; width:${size}px; --on:${on.toFixed(2)}`,
      "data-picture": names.join(" ") || "rest",
      onpointerdown: take,
    },
    h("img", { src, alt: "", draggable: false }),
    h("figcaption", {}, names.join(" + ") || "at rest"),
  );
}

/**
 * How strong a picture is now, by the shapes it stands for; the face at rest is what the others leave.
 * @returns {number}
 */
function strengthOf(b, board, q) {
  const names = Object.keys(q.shapes);
  if (!names.length) {
    const others = board.pictures.filter((x) => Object.keys(x.shapes).length).map((x) => strengthOf(b, board, x));
    return Math.max(0, 1 - Math.max(0, ...others));
  }
  const shares = names.map((n) => (b.strengths[n] ?? 0) / (q.shapes[n] || 1));
  return Math.min(Math.max(Math.min(...shares), 0), 1);
}

function bead(b, board, sheet) {
  const [x, y] = snapped(board, beadOf(b, board));
  const keyed = (e) => {
    const ways = { ArrowUp: [0, 1], ArrowDown: [0, -1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[e.key];
    if (!ways && e.key !== "Home") return;
    e.preventDefault();
    e.stopPropagation();
    const by = STEPS[board.snap] || (e.shiftKey ? 0.25 : 0.1);
    const now = beadOf(b, board);
    setBead(b, board, ways ? now.map((v, k) => v + ways[k] * by) : [0, 0], true);
  };
  return h("div", {
    class: "bead",
    tabindex: 0,
    role: "slider",
    "aria-label": `Bead of ${board.name}`,
    "aria-valuenow": x.toFixed(2),
    "aria-valuetext": `${x.toFixed(2)} across, ${y.toFixed(2)} up`,
    style: `left:${sheet.left(x)}px; top:${sheet.top(y)}px`,
    onkeydown: keyed,
  });
}

/** What the bead passed over on its last way, and what may be done about it. */
function passed(b, board) {
  const said = b.ui.passed.get(board.name);
  if (!said) return null;
  return h(
    "p",
    { class: "passed" },
    `It passed over ${said.over.join(", ")}: in a motion that would flash. `,
    button("Keep it as a jump", () => jump(b, board, said), "small mend"),
  );
}

function paper(b, board, sheet) {
  const move = (e) => {
    if (e.button || b.ui.arranging) return;
    e.preventDefault();
    dragged(e, (at, done) => setBead(b, board, sheet.place(at.x, at.y), done));
  };
  return h(
    "div",
    { class: "board-paper", style: `width:${sheet.width}px; height:${sheet.height}px`, onpointerdown: move },
    board.pictures.map((q) => shown(b, board, q, sheet)),
    bead(b, board, sheet),
  );
}

function boardOver(b, board) {
  const stage = byId("stage").getBoundingClientRect(),
    held = b.ui.heldBoard?.name === board.name ? b.ui.heldBoard : board,
    side = Math.max(held.size * stage.height, 120),
    sheet = sheetOf(board, side);
  const grab = (change) => (e) => {
    if (e.target.closest("button")) return;
    e.preventDefault();
    e.stopPropagation();
    dragged(e, (at, done) => {
      b.ui.heldBoard = { name: board.name, spot: held.spot, size: held.size, ...change(at) };
      if (!done) return;
      const { spot, size } = b.ui.heldBoard;
      b.step("boards.set", { board: board.name, spot, size }, { quiet: true, keepPose: true }).then(() => {
        b.ui.heldBoard = null;
      });
    });
  };
  const kept = (v) => Math.min(Math.max(v, 0), 0.95);
  const moved = (at) => ({
    spot: [kept(held.spot[0] + at.dx / stage.width), kept(held.spot[1] + at.dy / stage.height)],
  });
  const sized = (at) => ({ size: Math.min(Math.max(held.size + at.dx / stage.height, 0.15), 1.5) });
  return h(
    "section",
    {
      key: board.name,
      class: "board",
      "aria-label": `Board ${board.name}`,
      style: `left:${held.spot[0] * stage.width}px; top:${held.spot[1] * stage.height}px`,
    },
    h(
      "header",
      { onpointerdown: grab(moved) },
      h("strong", {}, board.name),
      acts(
        switchButton("Arrange", b.ui.arranging, () => {
          b.ui.arranging = !b.ui.arranging;
        }),
        button("Middle", () => setBead(b, board, [0, 0], true), "small quiet", { title: "The bead back to rest" }),
        button("×", () => b.ui.put("openBoards", board.name, false), "small quiet", { title: "Put the board away" }),
      ),
    ),
    paper(b, board, sheet),
    passed(b, board),
    h("i", { class: "board-corner", title: "Drag to size the board", onpointerdown: grab(sized) }),
  );
}

/** The boards that are open, over the plate. */
export function boardsOver(b) {
  if (!["shapes", "face"].includes(b.station) || !b.state) return null;
  const open = b.state.boards.filter((x) => b.ui.openBoards.has(x.name));
  return open.length ? open.map((x) => boardOver(b, x)) : null;
}
