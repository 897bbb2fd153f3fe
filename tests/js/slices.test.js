// The state in slices: what is merged is what the server would have told in whole.
import assert from "node:assert/strict";
import test from "node:test";
import { merged, nothing, take, whole } from "../../vonkel/web/static/js/app/slices.js";

const rows = [
  { name: "a", at: 1 },
  { name: "b", at: 2 },
  { name: "c", at: 3 },
];

test("changed rows stand where they stood", () => {
  assert.deepEqual(merged(rows, { rows: { b: { name: "b", at: 9 } } }), [rows[0], { name: "b", at: 9 }, rows[2]]);
});

test("rows come, go and move by the order", () => {
  const told = { rows: { d: { name: "d", at: 4 } }, order: ["c", "d", "a"] };
  assert.deepEqual(merged(rows, told), [rows[2], { name: "d", at: 4 }, rows[0]]);
});

test("lines join their controls, and the head is spread out", () => {
  const known = nothing();
  take(known, {
    head: { tag: "1", value: { name: "Lutra", position: { step: 3, pose: 0 } } },
    controls: { tag: "2", value: [{ name: "hand", level: "body" }] },
    lines: { tag: "3", value: [{ name: "hand", outline: [[0, 0, 0]] }] },
    clips: {
      tag: "5",
      value: [
        { name: "run", keyed: true },
        { name: "raw", keyed: false },
      ],
    },
    keys: {
      tag: "6",
      value: [
        { name: "run|a", clip: "run", keys: [[0, 1.5, 2, 0, 0]] },
        { name: "run|b", clip: "run", keys: [[4, 2.5, 2, 0, 0]] },
      ],
    },
  });
  assert.deepEqual(known.tags, { head: "1", controls: "2", lines: "3", clips: "5", keys: "6" });
  const state = whole(known);
  assert.equal(state.name, "Lutra");
  assert.deepEqual(state.controls, [{ name: "hand", level: "body", outline: [[0, 0, 0]] }]);
  assert.deepEqual(state.clips[0].keys, [[0, 0, 1.5, 2, 0, 0], [1, 4, 2.5, 2, 0, 0]]); // prettier-ignore
  assert.equal(state.clips[1].keys, undefined);
  take(known, { keys: { tag: "7", rows: { "run|b": { name: "run|b", clip: "run", keys: [[6, 3, 2, 0, 0]] } } } });
  assert.deepEqual(whole(known).clips[0].keys[1], [1, 6, 3, 2, 0, 0]);
  take(known, { lines: { tag: "4", rows: { hand: { name: "hand", outline: [[1, 0, 0]] } } } });
  assert.deepEqual(whole(known).controls[0].outline, [[1, 0, 0]]);
  assert.deepEqual(state.controls[0].outline, [[0, 0, 0]]); // what was handed out stays as it was
});
