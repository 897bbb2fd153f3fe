// What the pages' modules speak of: the state as slices.py tells it, and what is put on the window.
import type {
  Clip, Control, Finding, Follow, Joint, Kit, Link, Part, Picture, Shape, Skin, Space, Spring, Swing,
} from "./models";

export type Vector = [number, number, number];
export type Values = Record<string, Record<string, number>>;

export interface Station {
  key: string;
  title: string;
  state: string;
  count: number;
}

/** All of a character but its mesh. */
export interface State {
  number: number;
  position: { step: number; pose: number };
  name: string;
  about: string;
  plan: string;
  height: number;
  size: Vector;
  low: Vector;
  counts: Record<string, number>;
  mesh: string;
  groups: number;
  texture: string;
  steps: number;
  last: { sentence: string; number: number } | null;
  can_undo: boolean;
  can_redo: boolean;
  store_bytes: number;
  pose: { values: Values; label: string };
  parts: Part[];
  joints: Joint[];
  kits: Kit[];
  controls: Control[];
  rules: (Follow | Space | Link | Spring | Swing)[];
  shapes: Shape[];
  clips: Clip[];
  poses: string[];
  pictures: (Picture & { key: string })[];
  skin: (Skin & { holds: Record<string, number> }) | null;
  findings: Finding[];
  stations: Station[];
  trial_names: string[];
}

/** Whatever the server refuses. */
export interface Refusal {
  what: string;
  where: string;
  todo: string;
  status?: number;
}

declare global {
  interface Window {
    vonkel: any;
  }
}

/** What takes the plate's clicks while it is in the hand; its panel stands on the right sheet. */
export interface Tool {
  title?: string;
  hint?: string;
  name?: string;
  station?: string;
  passive?: boolean;
  kit?: any;
  enter(bench: any): void;
  leave(bench: any): void;
  panel(bench: any): any[];
  click?(spot: any): void;
  hover?(spot: any): void;
  key?(event: KeyboardEvent): boolean | void;
  drag?(name: string, place: Vector, done: boolean): void;
  meshChanged?(same: boolean): void;
}

/** A place of the house: what it shows on its sheets and in its dock, and what it does with what is picked. */
export interface StationKind {
  left(bench: any): any[];
  right(bench: any): any[];
  dock?(bench: any): any[];
  enter?(bench: any): void;
  picked?(bench: any, name: string): void;
  pickPoint?(bench: any, index: number): void;
  key?: Record<string, string>;
  keys?: string[][];
  layers?: { joints?: boolean; controls?: boolean };
  levels?: Set<string>;
  large?: string;
  shading?: string;
  rest?: boolean;
  strip?: boolean;
  heat?: boolean;
}
