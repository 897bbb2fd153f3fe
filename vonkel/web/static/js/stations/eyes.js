// How far lids go: from sliders to travels and back.

const WIDE = 0.25; // of the opening: how far lids open past rest; the same as the core's

/** Both lids' travels, 0 at rest and 1 on the other's edge; where they touch they stop.  The same as the core's. */
export function travels({ upper = 0, lower = 0, blink = 0, line = 0.3 }) {
  let up = upper > 0 ? upper : upper * WIDE,
    low = lower > 0 ? lower : lower * WIDE;
  up += blink * (1 - line) * (1 - Math.max(up, 0));
  low += blink * line * (1 - Math.max(low, 0));
  const kept = (v) => Math.min(Math.max(v, -WIDE), 1);
  up = kept(up);
  low = kept(low);
  const over = Math.max(up + low - 1, 0);
  return { up: up - over / 2, low: low - over / 2 };
}

/** What a slider says so that a lid has gone so far; `share`: of the blink at hand, that this lid goes. */
export function sliderFor(travel, blink, share) {
  const by = blink * share;
  const v = by < 1 ? (travel - by) / (1 - by) : 0;
  const kept = v > 0 ? v : v / WIDE;
  return Number(Math.min(Math.max(kept, -1), 1).toFixed(3));
}
