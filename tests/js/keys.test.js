// Curves as the page draws them are those of the core; rows and marks of the strip.
import assert from "node:assert/strict";
import { test } from "node:test";
import {
  BENT,
  carried,
  curveOf,
  HELD,
  LINEAR,
  marksOf,
  posesOf,
  rowsOf,
  SMOOTH,
} from "../../vonkel/web/static/js/widgets/keys.js";

const key = (at, value, manner, into = 0, out = into) => ({ track: 0, at, value, manner, into, out });

test("held keys wait, straight ones go straight, smooth ones ease and never overshoot", () => {
  const held = curveOf([key(0, 0, HELD), key(10, 4, HELD)], 10, false);
  assert.equal(held(9.9), 0);
  assert.equal(held(10), 4);
  const line = curveOf([key(0, 0, LINEAR), key(10, 4, LINEAR)], 10, false);
  assert.ok(Math.abs(line(2.5) - 1) < 1e-12);
  const smooth = curveOf([key(0, 0, SMOOTH), key(4, 1, SMOOTH), key(9, 1.2, SMOOTH), key(10, 3, SMOOTH)], 10, false);
  for (let f = 0; f <= 10; f += 0.1) assert.ok(smooth(f) >= -1e-9 && smooth(f) <= 3 + 1e-9);
  assert.ok(smooth(0.1) < 0.01);
  // the slope at 4 by Fritsch & Butland's weights of 1/4 and 0.2/5
  const w = 2 * 5 + 4,
    v = 5 + 2 * 4,
    slope = (w + v) / (w / 0.25 + v / 0.04);
  assert.ok(Math.abs((smooth(4.0001) - smooth(3.9999)) / 0.0002 - slope) < 1e-4);
});

test("a bent key leaves by its own slope", () => {
  const curve = curveOf([key(0, 0, BENT, 0.5), key(10, 0, BENT, 0)], 10, false);
  assert.ok(Math.abs(curve(0.001) / 0.001 - 0.5) < 1e-3);
});

test("a loop closes", () => {
  const curve = curveOf([key(0, 1, SMOOTH), key(5, 3, SMOOTH), key(12, -1, SMOOTH), key(20, 1, SMOOTH)], 20, true);
  const before = curve(20) - curve(19.99),
    after = curve(0.01) - curve(0);
  assert.ok(Math.abs(before - after) < 1e-4);
});

test("rows are by control, whole poses by frame", () => {
  const clip = {
    tracks: [
      { thing: "control:hand_L", channel: "move x" },
      { thing: "control:hand_L", channel: "move y" },
      { thing: "shape:smile", channel: "" },
    ],
    keys: [
      [0, 0, 1, SMOOTH, 0, 0],
      [0, 8, 2, SMOOTH, 0, 0],
      [1, 8, 2, HELD, 0, 0],
      [2, 3, 1, LINEAR, 0, 0],
    ],
  };
  const rows = rowsOf(clip, () => true);
  assert.deepEqual(
    rows.map((r) => [r.thing, r.keys.map((k) => k.at)]),
    [
      ["hand_L", [0, 8]],
      ["shape:smile", [3]],
    ],
  );
  assert.deepEqual(rows[0].keys[1].tracks, [0, 1]);
  assert.deepEqual(posesOf(clip), [0, 3, 8]);
  assert.deepEqual(rowsOf(clip, (thing) => thing === "hand_L").length, 1);
});

test("keys in the hand come to whole frames where asked, and never before the first", () => {
  assert.equal(carried(4, { by: 2.4 }, true), 6);
  assert.equal(carried(4, { by: 2.4 }, false), 6.4);
  assert.equal(carried(8, { scale: 0.5, about: 4 }, true), 6);
  assert.equal(carried(2, { by: -9 }, true), 0);
  assert.ok(marksOf(0, 100, 6).step === 10 && marksOf(0, 100, 70).step === 1);
});
