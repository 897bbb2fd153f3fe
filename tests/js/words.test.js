// Names as they are read: sides in front, no underscores.
import assert from "node:assert/strict";
import test from "node:test";
import { called, fullName, inWords } from "../../vonkel/web/static/js/words.js";

test("cards of shapes and of joints say their side first", () => {
  assert.equal(called({ name: "upper lid_L, whole" }), "L upper lid, whole");
  assert.equal(called({ name: "upper lid_L and lower lid_R" }), "L upper lid and R lower lid");
  assert.equal(called({ name: "one arm up" }), "one arm up");
  assert.equal(
    called({ name: "upper_arm_L by 40°", sweep: { joint: "upper_arm_L" } }),
    `${fullName("upper_arm_L")} by 40°`,
  );
});

test("a sentence says joints as everywhere on the page", () => {
  assert.equal(inWords("pulls membrane_forearm_2_R"), "pulls R membrane forearm 2");
});
