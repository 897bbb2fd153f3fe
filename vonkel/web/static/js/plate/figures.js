// What is drawn over the mesh: joints as rings and willow leaves, controls, marks, and what a tool is about to do.
import { rampColour } from "./shade.js";
import { EMBER, INK, SIDES, plus, rotated } from "./space.js";

const FADED = 0.2; // what is put aside while one works on other things

export function drawJoints(plate, name) {
  const pen = plate.pen,
    at = plate.joints.map((_, i) => plate.project(name, plate.jointPlace(i)));
  plate.joints.forEach((j, i) => {
    const p = j.parent ? plate.index.get(j.parent) : undefined;
    if (p === undefined) return;
    pen.globalAlpha = plate.aside.has(`joint:${j.name}`) ? FADED : 1;
    const [x0, y0] = at[p],
      [x1, y1] = at[i],
      n = Math.hypot(x1 - x0, y1 - y0);
    if (n < 3) return;
    const w = Math.min(Math.max(0.11 * n, 2), 8),
      ux = -(y1 - y0) / n,
      uy = (x1 - x0) / n;
    const mx = x0 + 0.46 * (x1 - x0),
      my = y0 + 0.46 * (y1 - y0);
    const colour = SIDES[j.side];
    pen.beginPath();
    pen.moveTo(x0, y0);
    pen.quadraticCurveTo(mx + 2 * w * ux, my + 2 * w * uy, x1, y1);
    pen.quadraticCurveTo(mx - 2 * w * ux, my - 2 * w * uy, x0, y0);
    pen.fillStyle = colour + (j.role === "eye" ? "14" : "38");
    pen.fill();
    pen.strokeStyle = colour;
    pen.lineWidth = 1.2;
    pen.stroke();
  });
  plate.joints.forEach((j, i) => {
    const [x, y] = at[i],
      chosen = j.name === plate.selected.joint,
      over = j.name === plate.hovered;
    pen.globalAlpha = plate.aside.has(`joint:${j.name}`) ? FADED : 1;
    if (chosen) tick(plate, name, i, x, y);
    pen.beginPath();
    pen.arc(x, y, chosen ? 6.5 : over ? 5 : j.deforms ? 3.4 : 2.4, 0, 7);
    pen.fillStyle = "#fffdf8";
    pen.fill();
    pen.strokeStyle = chosen || over ? EMBER : SIDES[j.side];
    pen.lineWidth = chosen ? 3 : 1.6;
    pen.stroke();
    if (j.doubt) doubtRing(pen, x, y, chosen ? 11 : 8.5, j.doubt);
  });
  pen.globalAlpha = 1;
}

const LOST = 0.16; // from there on a place is a guess: two rings instead of one

/** What wants a look: a broken ring; what wasn't found: two. */
function doubtRing(pen, x, y, r, doubt) {
  pen.setLineDash([3, 3]);
  pen.strokeStyle = EMBER;
  pen.lineWidth = 1.6;
  for (const k of doubt < LOST ? [r] : [r, r + 4]) {
    pen.beginPath();
    pen.arc(x, y, k, 0, 7);
    pen.stroke();
  }
  pen.setLineDash([]);
}

/** One of a joint's own axes, such as “z” or “-x”, as it stands now. */
function ownAxis(plate, i, name) {
  const k = "xyz".indexOf(name.at(-1)),
    sign = name.startsWith("-") ? -1 : 1;
  const way = plate.frames
    ? [k, k + 4, k + 8].map((m) => plate.frames[12 * i + m])
    : rotated(plate.joints[i].turn, [k === 0 ? 1 : 0, k === 1 ? 1 : 0, k === 2 ? 1 : 0]);
  return way.map((v) => v * sign);
}

/** The chosen joint's second axis: the hinge about which it bends. */
function tick(plate, name, i, x, y) {
  const j = plate.joints[i];
  const hinge = ownAxis(plate, i, j.hinge);
  const place = plate.jointPlace(i),
    [tx, ty] = plate.project(name, plus(place, hinge, 0.035 * plate.sizes().y));
  plate.pen.beginPath();
  plate.pen.moveTo(x, y);
  plate.pen.lineTo(tx, ty);
  plate.pen.strokeStyle = EMBER;
  plate.pen.lineWidth = 2;
  plate.pen.stroke();
}

export function drawControls(plate, name) {
  const pen = plate.pen;
  plate.controls.forEach((c, i) => {
    if (!plate.showsControl(i)) return;
    const line = plate.controlLine(i).map((p) => plate.project(name, p));
    const chosen = c.name === plate.selected.control,
      over = c.name === plate.hovered;
    pen.globalAlpha = plate.aside.has(`control:${c.name}`) ? FADED : 1;
    pen.beginPath();
    line.forEach(([x, y], k) => (k ? pen.lineTo(x, y) : pen.moveTo(x, y)));
    pen.closePath();
    pen.lineWidth = chosen || over ? 5 : 3.6;
    pen.strokeStyle = "rgba(255, 253, 248, .75)";
    pen.stroke();
    // an outline that leads others is dashed, one that moves itself is whole
    const leads = plate.dragKind(c).kind === "channel";
    pen.setLineDash(leads ? [7, 4] : []);
    pen.lineWidth = chosen ? 3 : over ? 2.6 : 1.7;
    pen.strokeStyle = chosen || over ? EMBER : SIDES[c.side];
    pen.stroke();
    pen.setLineDash([]);
  });
  pen.globalAlpha = 1;
}

/** Words at the pointer, kept inside the stage. */
export function drawTip(plate, { x, y, text }) {
  const pen = plate.pen;
  pen.font = "700 13px Atkinson, sans-serif";
  const wide = pen.measureText(text).width + 8;
  note(pen, text, [Math.min(x + 16, plate.width - wide), Math.max(y - 18, 14)], "left");
}

export function drawMarks(plate, name) {
  const pen = plate.pen;
  pen.fillStyle = "rgba(200, 72, 26, .85)";
  pen.font = "700 13px Atkinson, sans-serif";
  plate.marked.forEach((p, i) => {
    const [x, y] = plate.project(name, plate.pointPlace(p));
    pen.beginPath();
    pen.arc(x, y, 2.6, 0, 7);
    pen.fill();
    if (plate.numbered === plate.marked) note(pen, String(i + 1), [x + 5, y - 5], "left");
  });
}

/** Hills by their contours, and a way over them, as the ground that a walk is made for. */
export function drawGround(plate, name) {
  const { pen, ground } = plate;
  const line = (places) => {
    pen.beginPath();
    places.forEach((p, i) => {
      const [x, y] = plate.project(name, p);
      if (i) pen.lineTo(x, y);
      else pen.moveTo(x, y);
    });
    pen.stroke();
  };
  const round = Array.from({ length: 33 }, (_, i) => (i / 16) * Math.PI);
  pen.save();
  pen.strokeStyle = "#c9b48d";
  pen.lineWidth = 1.2;
  for (const [x, z, radius, high] of ground.hills)
    for (const share of [0, 0.3, 0.6, 0.9]) {
      const r = radius * Math.sqrt(1 - Math.sqrt(share)); // where the hill is so high: (1 − d²)²
      line(round.map((a) => [x + r * Math.cos(a), ground.low + high * share, z + r * Math.sin(a)]));
    }
  pen.setLineDash([7, 5]);
  pen.strokeStyle = "#8d8674";
  line(ground.path.map(([x, z]) => [x, ground.low, z]));
  pen.restore();
}

const FLECK = 28; // pixels: shorter runs of an outline are grain of the mesh, not its shape

/** Of edges `seen` those in runs, joined at their ends, that are long enough in the picture. */
function lines(seen, ends, at, count) {
  const above = new Int32Array(count).map((_, i) => i),
    long = new Float64Array(count);
  const root = (i) => {
    while (above[i] !== i) i = above[i] = above[above[i]];
    return i;
  };
  for (const e of seen) above[root(ends[2 * e])] = root(ends[2 * e + 1]);
  for (const e of seen) {
    const [a, b] = [2 * ends[2 * e], 2 * ends[2 * e + 1]];
    long[root(a / 2)] += Math.hypot(at[a] - at[b], at[a + 1] - at[b + 1]);
  }
  return seen.filter((e) => long[root(ends[2 * e])] >= FLECK);
}

const APART = 2; // pixels that another outline stands off from what is drawn to be seen beside it

/**
 * The outline of the mesh with other points, where it stands off from the one that is drawn: edges where what
 * faces the eye meets what doesn't.
 */
export function drawOutline(plate, name, points) {
  const { pen, drawn } = plate,
    count = points.length / 3,
    at = new Float64Array(2 * count),
    off = new Uint8Array(count);
  for (let i = 0; i < count; i++) {
    const [x, y] = plate.project(name, [points[3 * i], points[3 * i + 1], points[3 * i + 2]]),
      [u, v] = plate.project(name, plate.pointPlace(i));
    at[2 * i] = x;
    at[2 * i + 1] = y;
    off[i] = Math.hypot(x - u, y - v) > APART ? 1 : 0;
  }
  const t = drawn.triangles,
    facing = new Int8Array(t.length / 3);
  for (let f = 0; f < facing.length; f++) {
    const [a, b, c] = [2 * t[3 * f], 2 * t[3 * f + 1], 2 * t[3 * f + 2]];
    const area = (at[b] - at[a]) * (at[c + 1] - at[a + 1]) - (at[c] - at[a]) * (at[b + 1] - at[a + 1]);
    facing[f] = area < 0 ? 1 : -1;
  }
  const { ends, faces } = drawn.edges(),
    seen = [];
  for (let e = 0; e < faces.length / 2; e++) {
    const other = faces[2 * e + 1];
    if (!off[ends[2 * e]] && !off[ends[2 * e + 1]]) continue;
    if (!plate.outlined.has(drawn.partOf[faces[2 * e]])) continue;
    if (other >= 0 && facing[faces[2 * e]] === facing[other]) continue;
    seen.push(e);
  }
  pen.beginPath();
  for (const e of lines(seen, ends, at, count)) {
    pen.moveTo(at[2 * ends[2 * e]], at[2 * ends[2 * e] + 1]);
    pen.lineTo(at[2 * ends[2 * e + 1]], at[2 * ends[2 * e + 1] + 1]);
  }
  pen.lineWidth = 1.3;
  pen.strokeStyle = SIDES.L;
  pen.stroke();
}

/** Values on their points, of those that face the eye. */
export function drawDots(plate, name) {
  const { pen, drawn } = plate,
    { out } = plate.axes(name),
    normals = drawn.pointNormals ?? drawn.mesh.geometry.attributes.normal.array;
  for (const p of plate.dotted) {
    const facing = normals[3 * p] * out[0] + normals[3 * p + 1] * out[1] + normals[3 * p + 2] * out[2];
    if (facing <= 0) continue;
    const [x, y] = plate.project(name, plate.pointPlace(p));
    pen.beginPath();
    pen.arc(x, y, 4, 0, 7);
    pen.fillStyle = rampColour(drawn.values[p]);
    pen.fill();
    pen.strokeStyle = "rgba(34, 48, 60, .7)";
    pen.lineWidth = 1;
    pen.stroke();
  }
}

/**
 * The own axes of every joint: the hinge as a full tick, the bone's axis dashed, the third thin; letters on the
 * chosen one.
 */
export function drawAxes(plate, name) {
  const pen = plate.pen,
    long = 0.03 * plate.sizes().y;
  plate.joints.forEach((j, i) => {
    const place = plate.jointPlace(i),
      [x, y] = plate.project(name, place),
      chosen = j.name === plate.selected.joint;
    for (const axis of ["x", "y", "z"]) {
      const size = long * (chosen ? 1.7 : 1),
        [ex, ey] = plate.project(name, plus(place, ownAxis(plate, i, axis), size));
      pen.beginPath();
      pen.moveTo(x, y);
      pen.lineTo(ex, ey);
      const hinge = j.hinge.at(-1) === axis,
        aim = j.aim.at(-1) === axis;
      pen.strokeStyle = hinge ? EMBER : INK;
      pen.lineWidth = hinge ? 2 : aim ? 1.4 : 0.8;
      pen.setLineDash(aim ? [4, 3] : []);
      pen.stroke();
      pen.setLineDash([]);
      if (chosen) {
        pen.font = "700 13px Atkinson, sans-serif";
        pen.fillStyle = hinge ? EMBER : INK;
        pen.textAlign = "center";
        pen.textBaseline = "middle";
        pen.fillText(axis, ex + 8 * Math.sign(ex - x || 1), ey);
      }
    }
  });
}

/** Landmarks, a chain being drawn, lines of a measure or a ring: what a tool is about to do. */
export function drawWishes(plate, name) {
  const pen = plate.pen;
  for (const { line, closed, dashed, label, dots, ink } of plate.wishes) {
    const at = line.map((p) => plate.project(name, p));
    if (at.length > 1) {
      for (const [width, colour] of [
        [5, "rgba(255, 253, 248, .8)"],
        [2.2, ink ? INK : EMBER],
      ]) {
        pen.beginPath();
        at.forEach(([x, y], k) => (k ? pen.lineTo(x, y) : pen.moveTo(x, y)));
        if (closed) pen.closePath();
        pen.lineWidth = width;
        pen.strokeStyle = colour;
        pen.setLineDash(dashed ? [6, 4] : []);
        pen.stroke();
      }
      pen.setLineDash([]);
    }
    if (dots)
      for (const [x, y] of at) {
        pen.beginPath();
        pen.arc(x, y, 4.5, 0, 7);
        pen.fillStyle = "#fffdf8";
        pen.fill();
        pen.strokeStyle = EMBER;
        pen.lineWidth = 2;
        pen.stroke();
      }
    if (label && at.length) note(pen, label, at[Math.floor(at.length / 2)]);
  }
  drawLandmarks(plate, name);
}

/** Places to be put right: diamonds, with rings round what wants a look; and ends that no plan could read. */
function drawLandmarks(plate, name) {
  const { pen } = plate;
  for (const m of plate.seen ?? []) {
    const [x, y] = plate.project(name, m.place);
    pen.beginPath();
    pen.arc(x, y, 10, 0, 7);
    pen.strokeStyle = INK;
    pen.lineWidth = 1.4;
    pen.stroke();
  }
  const taken = []; // labels that would lie on each other are left out; hovering shows them
  const asked = (m) => (m.moved ? 1 : m.sure && m.sure !== "sure" ? 2 : 0);
  for (const m of [...plate.landmarks].sort(
    (a, b) => Number(b.name === plate.hovered) - Number(a.name === plate.hovered) || asked(b) - asked(a),
  )) {
    const [x, y] = plate.project(name, m.place),
      over = plate.hovered === m.name,
      r = over || m.moved ? 7.5 : 6;
    pen.beginPath();
    pen.moveTo(x, y - r);
    pen.lineTo(x + r, y);
    pen.lineTo(x, y + r);
    pen.lineTo(x - r, y);
    pen.closePath();
    pen.fillStyle = m.moved ? EMBER : "#fffdf8";
    pen.fill();
    pen.strokeStyle = EMBER;
    pen.lineWidth = 2;
    pen.stroke();
    if (!m.moved && m.sure && m.sure !== "sure") doubtRing(pen, x, y, r + 5, m.spread);
    if (
      over ||
      (!m.quiet && name !== "top" && !taken.some(([tx, ty]) => Math.abs(tx - x) < 92 && Math.abs(ty - y) < 17))
    ) {
      const words = m.sure === "not found" && !m.moved ? `${m.label}?` : m.label,
        { rect } = plate.views[name],
        wide = pen.measureText(words).width,
        room = x + 22 + wide < rect.x + rect.w;
      note(pen, words, [room ? x + 10 : x - 12 - wide, y], "left");
      taken.push([x, y]);
    }
  }
}

function note(pen, text, [x, y], align = "center") {
  pen.font = "700 13px Atkinson, sans-serif";
  pen.textBaseline = "middle";
  pen.textAlign = align;
  const w = pen.measureText(text).width,
    left = align === "center" ? x - w / 2 : x,
    up = align === "center" ? y - 14 : y;
  pen.fillStyle = "rgba(255, 253, 248, .86)";
  pen.fillRect(left - 4, up - 9, w + 8, 18);
  pen.fillStyle = INK;
  pen.fillText(text, align === "center" ? x : left, up);
}
