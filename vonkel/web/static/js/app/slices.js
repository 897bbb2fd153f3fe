// The state in slices: each known by the hash of what it says; of lists of named things only changed rows come.

/** What is known of a character: `tags` the slices' hashes, `values` what they say. */
export const nothing = () => ({ tags: {}, values: { findings: [], stations: [] } });

/**
 * Rows by name with the changed ones in their places; `order` tells where names came, went or moved.
 * @param {{name: string}[]} rows @param {{rows: Record<string, {name: string}>, order?: string[]}} told
 */
export function merged(rows, { rows: changed, order }) {
  const now = new Map(rows.map((r) => [r.name, changed[r.name] ?? r]));
  for (const name of order ?? []) if (changed[name]) now.set(name, changed[name]);
  return order ? order.map((name) => now.get(name)) : [...now.values()];
}

/** Take in what the server told of slices that changed. */
export function take(known, told) {
  for (const [name, slice] of Object.entries(told)) {
    known.tags[name] = slice.tag;
    known.values[name] = "value" in slice ? slice.value : merged(known.values[name], slice);
  }
}

/** Motions with the keys of those that have such as rows: track, frame, value, manner, slopes in and out. */
function keyed(clips, keys) {
  const rows = new Map(clips.map((c) => [c.name, { next: 0, keys: [] }]));
  for (const track of keys) {
    const own = rows.get(track.clip);
    if (!own) continue;
    for (const key of track.keys) own.keys.push([own.next, ...key]);
    own.next++;
  }
  return clips.map((c) => (c.keyed ? { ...c, keys: rows.get(c.name).keys } : c));
}

/**
 * The whole state: the head spread out, lines joined to their controls, keys to their motions.
 * @returns {import("../../types/page").State}
 */
export function whole(known) {
  const { head, lines, keys, ...rest } = known.values;
  const drawn = new Map(lines.map((l) => [l.name, l]));
  const controls = rest.controls.map((c) => ({ ...c, ...drawn.get(c.name) }));
  return { ...head, ...rest, controls, clips: keyed(rest.clips, keys) };
}
