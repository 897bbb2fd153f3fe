// The tools that the plate knows: each is an action, a button in its station's dock and, if it likes, a key.
import { enter } from "./actions.js";

/** @typedef {import("../../types/page").Tool} Tool */

/** @type {Map<string, Tool>} */
export const TOOLS = new Map();

/** Enter a tool.  @param {Tool} tool */
export function enterTool(tool) {
  if (TOOLS.has(tool.name)) throw new Error(`two tools are called ${tool.name}`);
  TOOLS.set(tool.name, tool);
  if (tool.unlisted) return;
  enter({
    id: `tool.${tool.name}`,
    words: tool.title,
    where: tool.station,
    key: tool.key,
    keyWords: tool.title.toLowerCase(),
    station: tool.station,
    dock: { at: [tool.station], kind: "tool", label: tool.label ?? tool.title, title: tool.hint },
    on: (b) => b.tool === tool,
    run: (b) => {
      if (b.station !== tool.station) b.go(tool.station);
      b.useTool(b.tool === tool ? null : tool.name);
    },
  });
}

/** What tools have in common: they know the bench while they are in the hand, and leave no trace on the plate. */
export class PlateTool {
  /** @type {any} */ b = null;

  /** @param {Partial<Tool>} about */
  constructor({ name = "", title = "", station = "", ...more }) {
    this.name = name;
    this.title = title;
    this.station = station;
    this.hint = "";
    Object.assign(this, more);
  }
  enter(b) {
    this.b = b;
  }
  leave() {
    this.b.plate.wishes = [];
  }
  /** @returns {any} */
  panel(_bench) {
    return null;
  }
  /** Its panel is to be drawn anew. */
  changed() {
    this.b.touch("tool");
  }
  /** Lines on the plate: what it is about to do. */
  wish(...wishes) {
    this.b.plate.wishes = wishes;
    this.b.plate.draw();
  }
}
