// The store: watchers are told once after a turn, of what they watch and of nothing else.
import assert from "node:assert/strict";
import test from "node:test";
import { store } from "../../vonkel/web/static/js/app/store.js";

const turn = () => new Promise((done) => setTimeout(done));

test("several changes of one turn are told once", async () => {
  const s = store({ part: "", shape: "", open: new Set() });
  const told = [];
  s.watch(null, (changed) => told.push([...changed].sort()));
  s.part = "body";
  s.shape = "smile";
  s.part = "eye";
  assert.deepEqual(told, []);
  await turn();
  assert.deepEqual(told, [["part", "shape"]]);
  assert.equal(s.part, "eye");
});

test("what is set to what it was tells nobody, what changed within says so itself", async () => {
  const s = store({ part: "body", open: new Set() });
  let told = 0;
  s.watch(null, () => (told += 1));
  s.part = "body";
  s.open.add("x");
  await turn();
  assert.equal(told, 0);
  s.touch("open");
  await turn();
  assert.equal(told, 1);
});

test("a watcher of some names hears of no others, and of nothing once it has let go", async () => {
  const s = store({ a: 1, b: 1 });
  const told = [];
  const letGo = s.watch(["a"], () => told.push("a"));
  s.b = 2;
  await turn();
  assert.deepEqual(told, []);
  s.a = 2;
  await turn();
  assert.deepEqual(told, ["a"]);
  assert.equal(s.watchers, 1);
  letGo();
  s.a = 3;
  await turn();
  assert.deepEqual(told, ["a"]);
  assert.equal(s.watchers, 0);
});

test("a name that was never declared can't be set", () => {
  const s = store({ a: 1 });
  assert.throws(() => {
    /** @type {any} */ (s).typo = 1;
  }, TypeError);
});

test("a watcher that changes something is told of that in the next turn", async () => {
  const s = store({ a: 0, b: 0 });
  const told = [];
  s.watch(null, (changed) => {
    told.push([...changed].join());
    if (s.b < 2) s.b += 1;
  });
  s.a = 1;
  await turn();
  assert.deepEqual(told, ["a", "b", "b"]);
});
