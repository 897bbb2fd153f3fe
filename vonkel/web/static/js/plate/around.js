// Which triangles lie round each point: what has to be drawn anew when some points move.

export class Around {
  /** @param {Uint32Array} triangles @param {number} count points */
  constructor(triangles, count) {
    this.triangles = triangles;
    this.starts = new Uint32Array(count + 1);
    for (const p of triangles) this.starts[p + 1] += 1;
    for (let i = 0; i < count; i++) this.starts[i + 1] += this.starts[i];
    this.list = new Uint32Array(triangles.length);
    const next = this.starts.slice(0, count);
    for (let i = 0; i < triangles.length; i++) this.list[next[triangles[i]]++] = Math.floor(i / 3);
    this.marks = new Uint8Array(count);
  }

  /** The points whose normals change when those of `ranges` move: `points`, and `runs` that hold them all. */
  touched(ranges) {
    const { starts, list, triangles, marks } = this,
      points = [];
    const mark = (p) => {
      if (marks[p]) return;
      marks[p] = 1;
      points.push(p);
    };
    for (let r = 0; r < ranges.length; r += 2)
      for (let i = ranges[r]; i < ranges[r] + ranges[r + 1]; i++) {
        mark(i);
        for (let k = starts[i]; k < starts[i + 1]; k++) for (let c = 0; c < 3; c++) mark(triangles[3 * list[k] + c]);
      }
    points.forEach((p) => {
      marks[p] = 0;
    });
    return { points, runs: runsOf(points) };
  }

  /** Mark the triangles round some points.  @returns {boolean} whether any of them wasn't marked before */
  mark(points, marks) {
    let more = false;
    for (const p of points)
      for (let k = this.starts[p]; k < this.starts[p + 1]; k++)
        if (!marks[this.list[k]]) {
          marks[this.list[k]] = 1;
          more = true;
        }
    return more;
  }

  /** Area-weighted normals of some points. */
  writeNormals(at, { points }, ways) {
    const { starts, list, triangles } = this;
    for (const p of points) {
      let x = 0,
        y = 0,
        z = 0;
      for (let k = starts[p]; k < starts[p + 1]; k++) {
        const t = 3 * list[k],
          a = 3 * triangles[t],
          b = 3 * triangles[t + 1],
          c = 3 * triangles[t + 2];
        const ux = at[b] - at[a],
          uy = at[b + 1] - at[a + 1],
          uz = at[b + 2] - at[a + 2];
        const vx = at[c] - at[a],
          vy = at[c + 1] - at[a + 1],
          vz = at[c + 2] - at[a + 2];
        x += uy * vz - uz * vy;
        y += uz * vx - ux * vz;
        z += ux * vy - uy * vx;
      }
      ways[3 * p] = x;
      ways[3 * p + 1] = y;
      ways[3 * p + 2] = z;
    }
  }
}

const GAP = 512; // points between two runs that are sent as one

/** [first, count] of runs that hold all of some numbers. */
function runsOf(points) {
  const sorted = Uint32Array.from(points).sort();
  /** @type {[number, number][]} */
  const runs = [];
  for (const p of sorted) {
    const last = runs.at(-1);
    if (last && p - last[0] - last[1] < GAP) last[1] = p - last[0] + 1;
    else runs.push([p, 1]);
  }
  return runs;
}
