// How far lids go: from sliders to travels and back.

const FLESH = { wide: 0.25, shut: 1 }; // openings: how far a slider takes a lid at its ends; the same as the core's
const SHELL = (100 * Math.PI) / 180; // the same of a built lid, either way

/** How far the sliders of a kit take its lids, in openings.  @param {any} kit */
export function reachOf(kit) {
  const far = SHELL / (kit.options.opening || 1);
  return kit.joints.upper?.length ? { wide: far, shut: far } : FLESH;
}

/** Both lids' travels, 0 at rest and 1 on the other's edge; where they touch they stop.  The same as the core's. */
export function travels({ upper = 0, lower = 0, blink = 0, line = 0.3 }, reach = FLESH) {
  let up = upper * (upper > 0 ? reach.shut : reach.wide),
    low = lower * (lower > 0 ? reach.shut : reach.wide);
  up += blink * (1 - line) * (1 - Math.max(up, 0));
  low += blink * line * (1 - Math.max(low, 0));
  const kept = (v) => Math.min(Math.max(v, -reach.wide), reach.shut);
  up = kept(up);
  low = kept(low);
  const over = Math.max(up + low - 1, 0);
  return { up: up - over / 2, low: low - over / 2 };
}

/** What a slider says so that a lid has gone so far; `share`: of the blink at hand, that this lid goes. */
export function sliderFor(travel, blink, share, reach = FLESH) {
  const by = blink * share;
  const v = by < 1 ? (travel - by) / (1 - by) : 0;
  const kept = v / (v > 0 ? reach.shut : reach.wide);
  return Number(Math.min(Math.max(kept, -1), 1).toFixed(3));
}
