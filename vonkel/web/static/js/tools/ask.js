// Asking what lies under the hand, one question at a time: of the places passed meanwhile the newest wins.

/** A function of a spot that gets `ask(spot)` and hands it to `use(answer, spot)`. */
export function asker(ask, use) {
  let busy = false,
    next = null;
  const run = async (spot) => {
    if (busy) {
      next = spot;
      return;
    }
    busy = true;
    const found = await ask(spot);
    busy = false;
    if (found) use(found, spot);
    if (next) {
      const s = next;
      next = null;
      run(s);
    }
  };
  return run;
}
