// A mesh as the server sends it: the length of a header, the header as JSON, then arrays, each on a boundary of four
// bytes.

/**
 * `lines`: ends (two points each) and the part of each; `corners`, where one point is drawn with several: their points,
 * triangles, texture places, and whether each takes the point's normal.
 * @param {ArrayBuffer} data
 */
export function meshFrom(data) {
  const size = new DataView(data).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, size)));
  let at = 4 + size;
  const next = (Kind, count) => {
    const array = new Kind(data, at, count);
    at += array.byteLength + ((4 - (array.byteLength % 4)) % 4);
    return array;
  };
  const mesh = {
    points: next(Float32Array, 3 * head.points),
    triangles: next(Uint32Array, 3 * head.triangles),
    colours: next(Uint8Array, 3 * head.points),
    partOf: next(Uint16Array, head.triangles),
    lines: { ends: next(Uint32Array, 2 * head.lines), partOf: next(Uint16Array, head.lines) },
    goesOn: next(Uint8Array, head.triangles), // whether a triangle is of the same face as the one before
    corners: null,
  };
  if (head.corners)
    mesh.corners = {
      points: next(Uint32Array, head.corners),
      triangles: next(Uint32Array, 3 * head.triangles),
      uvs: next(Float32Array, 2 * head.corners),
      smooth: next(Uint8Array, head.corners),
    };
  return mesh;
}
