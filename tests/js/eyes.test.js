// Lids as the eyes' drawing has them: they stop where they touch, and what a drag asks for is what comes of it.
import assert from "node:assert/strict";
import { test } from "node:test";
import { sliderFor, travels } from "../../vonkel/web/static/js/stations/eyes.js";

test("lids that touch stop, and the one gives way to the other by halves", () => {
  assert.deepEqual(travels({ blink: 1, line: 0.25 }), { up: 0.75, low: 0.25 });
  const { up, low } = travels({ upper: 1, lower: 0.5 });
  assert.ok(Math.abs(up - 0.75) < 1e-12 && Math.abs(low - 0.25) < 1e-12);
  assert.equal(travels({ upper: -1 }).up, -0.25);
});

test("a slider says what takes a lid where a hand left it, whatever the blink", () => {
  for (const blink of [0, 0.4])
    for (const travel of [0.3, 0.5, 0.85]) {
      const upper = sliderFor(travel, blink, 0.7);
      assert.ok(Math.abs(travels({ upper, blink, line: 0.3 }).up - travel) < 2e-3);
    }
  assert.equal(sliderFor(-0.125, 0, 0.7), -0.5);
});
