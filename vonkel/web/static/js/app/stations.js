// The stations, by key, and what others add to their sheets.

/** @typedef {import("../../types/page").StationKind} StationKind */
/**
 * What is added to a station: below its own sheets to the left or right, or on the shelf under the plate, where what is
 * wide stands; a shelf has a title and is as `high` as it says.
 * @typedef {{ id: string, side: "left" | "right" | "shelf", title?: string, high?: number,
 *   draw: (bench: any) => any }} Sheet
 */

/** @type {Map<string, StationKind>} */
export const STATIONS = new Map();

/** @type {Map<string, Sheet[]>} */
const added = new Map();

/** Enter a station.  @param {string} key @param {StationKind} kind */
export function enterStation(key, kind) {
  if (STATIONS.has(key)) throw new Error(`two stations are called ${key}`);
  STATIONS.set(key, kind);
}

/** Add a sheet to a station.  Returns what takes it away.  @param {string} station @param {Sheet} sheet */
export function enterSheet(station, sheet) {
  const list = added.get(station) ?? [];
  if (list.some((s) => s.id === sheet.id)) throw new Error(`two sheets at ${station} are called ${sheet.id}`);
  added.set(station, [...list, sheet]);
  return () =>
    added.set(
      station,
      (added.get(station) ?? []).filter((s) => s !== sheet),
    );
}

/** What was added to one side of a station.  @returns {Sheet[]} */
export const sheetsOf = (station, side) => (added.get(station) ?? []).filter((s) => s.side === side);

/** What the stations keep for their sheets, with how it begins. */
export const fieldsOf = () => Object.assign({}, ...[...STATIONS.values()].map((s) => s.fields ?? {}));
