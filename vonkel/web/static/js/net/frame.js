// A live frame: its number and the length of its JSON, the JSON, then blocks of float32, which the JSON names in their
// order.

/** @param {ArrayBuffer} data @returns {{ sequence: number, said: any, blocks: Record<string, Float32Array> }} */
export function frameFrom(data) {
  const view = new DataView(data),
    size = view.getUint32(4, true);
  const said = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 8, size)));
  let at = 8 + size;
  const blocks = {};
  for (const [name, count] of said.blocks) {
    blocks[name] = new Float32Array(data, at, count);
    at += 4 * count;
  }
  return { sequence: view.getUint32(0, true), said, blocks };
}

/**
 * Points with some of them put elsewhere: `ranges` says of which points, [first, count, …].
 * @param {Float32Array} points @param {number[]} ranges @param {Float32Array} moved
 */
export function patched(points, ranges, moved) {
  let at = 0;
  for (let r = 0; r < ranges.length; r += 2) {
    const count = 3 * ranges[r + 1];
    points.set(moved.subarray(at, at + count), 3 * ranges[r]);
    at += count;
  }
  return points;
}
