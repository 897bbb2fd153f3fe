// The paper under the drawings: grid, rulers, ground and height, reference pictures, and the lines that tie a joint
// together.
import { length } from "../words.js";
import { EMBER, FLAT, INK, RULER } from "./space.js";

/** Ruled paper under the drawings, the height ruler, the ground and the figure's height. */
export function drawPaper(plate) {
  const { front, side, top } = plate.views;
  drawGrid(plate, "front", front.rect);
  drawGrid(plate, "side", side.rect);
  if (top.rect) drawGrid(plate, "top", top.rect);
  const pen = plate.pen,
    r = front.rect,
    end = side.rect.x + side.rect.w;
  pen.font = "14px 'Atkinson Mono', monospace";
  pen.fillStyle = "#56636c";
  pen.textAlign = "right";
  pen.textBaseline = "middle";
  const step = gridStep(plate) * 2;
  for (const v of ticks(plate.focus[1], r.h / plate.scale, step)) {
    const y = plate.project("front", [0, v, 0])[1];
    if (y > 26 && y < r.h - 4) pen.fillText(String(Math.round(v * 100)), RULER - 8, y);
  }
  if (!plate.box) return;
  const low = plate.project("front", [0, plate.box.min.y, 0])[1],
    high = plate.project("front", [0, plate.box.max.y, 0])[1];
  pen.strokeStyle = INK;
  pen.lineWidth = 1.5;
  if (low < r.y + r.h) {
    pen.beginPath();
    pen.moveTo(r.x, low);
    pen.lineTo(end, low);
    pen.stroke();
  }
  pen.setLineDash([5, 4]);
  pen.strokeStyle = EMBER;
  pen.lineWidth = 1;
  pen.beginPath();
  pen.moveTo(r.x, high);
  pen.lineTo(end, high);
  pen.stroke();
  pen.setLineDash([]);
  pen.fillStyle = EMBER;
  pen.textAlign = "right";
  pen.textBaseline = "bottom";
  pen.fillText(length(plate.box.max.y - plate.box.min.y), end - 10, high - 3);
}

export function gridStep(plate) {
  const wanted = 26 / plate.scale;
  return [0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10].find((s) => s >= wanted) ?? 20;
}

export function drawGrid(plate, name, rect) {
  const pen = plate.pen,
    f = FLAT[name],
    step = gridStep(plate);
  pen.lineWidth = 1;
  pen.strokeStyle = "rgba(200, 186, 160, .33)";
  pen.beginPath();
  for (const axis of ["right", "up"]) {
    const k = f[axis].findIndex((v) => v !== 0),
      span = (axis === "right" ? rect.w : rect.h) / plate.scale;
    for (const v of ticks(plate.focus[k], span, step)) {
      const p = [...plate.focus];
      p[k] = v;
      const [x, y] = plate.project(name, p);
      if (axis === "right" && x > rect.x && x < rect.x + rect.w) {
        pen.moveTo(x, rect.y);
        pen.lineTo(x, rect.y + rect.h);
      }
      if (axis === "up" && y > rect.y && y < rect.y + rect.h) {
        pen.moveTo(rect.x, y);
        pen.lineTo(rect.x + rect.w, y);
      }
    }
  }
  pen.stroke();
}

/** Dotted lines that tie the chosen joint together across the drawings. */
export function drawTies(plate) {
  const i = plate.index?.get(plate.selected.joint);
  if (!plate.views.top.rect) return;
  if (i === undefined || !plate.layers.joints) return;
  const p = plate.jointPlace(i),
    a = plate.project("front", p),
    b = plate.project("side", p),
    c = plate.project("top", p),
    pen = plate.pen;
  pen.setLineDash([2, 4]);
  pen.strokeStyle = EMBER;
  pen.lineWidth = 1;
  pen.beginPath();
  pen.moveTo(a[0], a[1]);
  pen.lineTo(b[0], b[1]);
  pen.moveTo(a[0], a[1]);
  pen.lineTo(c[0], c[1]);
  pen.stroke();
  pen.setLineDash([]);
}

/** Reference pictures of one drawing, to scale, under the grid. */
export function drawPictures(plate, name, rect) {
  const pen = plate.pen,
    f = FLAT[name];
  for (const q of plate.pictures ?? []) {
    const image = plate.pictureFiles.get(q.key);
    if (q.view !== name || q.hidden || !image?.complete || !image.naturalWidth) continue;
    const high = (q.width * image.naturalHeight) / image.naturalWidth;
    const middle = [0, 1, 2].map((k) => f.right[k] * q.place[0] + f.up[k] * q.place[1]);
    const [x, y] = plate.project(name, middle);
    pen.save();
    pen.beginPath();
    pen.rect(rect.x, rect.y, rect.w, rect.h);
    pen.clip();
    pen.globalAlpha = q.strength;
    pen.drawImage(
      image,
      x - (q.width * plate.scale) / 2,
      y - (high * plate.scale) / 2,
      q.width * plate.scale,
      high * plate.scale,
    );
    pen.restore();
  }
}

function ticks(middle, span, step) {
  const out = [];
  for (let v = Math.ceil((middle - span / 2) / step) * step; v <= middle + span / 2; v += step) out.push(v);
  return out;
}
