// What the pages' modules speak of: the state as slices.py tells it, and what is put on the window.
import type {
  Board, BoardPicture, Clip, Control, Finding, Follow, Joint, Kit, Link, Part, Picture, Region, Shape, Skin, Space, Spring, Swing,
} from "./models";

export type Vector = [number, number, number];
export type Values = Record<string, Record<string, number>>;

export interface Station {
  key: string;
  title: string;
  state: string;
  count: number;
}

/** A mark of a face, with what hangs on it and whether its partner goes along. */
export interface FaceMarkRow {
  name: string;
  label: string;
  decides: string;
  place: Vector;
  side: "L" | "R" | "C";
  sure: number;
  how: string;
  settled: boolean;
  doubtful: boolean;
  linked: boolean;
  partner: string;
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
  joints: (Joint & { partner: string })[];
  kits: Kit[];
  controls: (Control & { partner: string })[];
  rules: (Follow | Space | Link | Spring | Swing)[];
  shapes: (Shape & { points: number; far: number; led: boolean })[];
  regions: (Region & { points: number })[];
  face: {
    marks: FaceMarkRow[];
    products: { name: string; label: string; made: boolean; stale: boolean }[];
  };
  boards: (Omit<Board, "pictures"> & { pictures: (BoardPicture & { seal: string })[] })[];
  clips: (Clip & { frames: number; keys?: number[][] })[];
  rate: number;
  poses: string[];
  pictures: (Picture & { key: string })[];
  skin: (Skin & { holds: Record<string, number>; fresh: boolean }) | null;
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
    /** Bootstrap's widgets, from its own script. */
    bootstrap: any;
  }
}

/** A place under the pointer, for tools; `press`: how hard a pen is pressed, 0 to 1. */
export interface Spot {
  view: string;
  x: number;
  y: number;
  ray: [number[], number[]];
  hit: { point: number; triangle: number; distance: number } | null;
  place: number[] | null;
  metre: number;
  press?: number;
}

/** What takes the plate's clicks while it is in the hand; its panel stands on the right sheet. */
export interface Tool {
  name: string;
  title: string;
  station: string;
  hint?: string;
  /** Its words in the dock, if they are others than the title. */
  label?: string;
  /** The key that takes it up. */
  key?: string;
  /** Clicks still choose joints and controls. */
  passive?: boolean;
  /** It stands in no dock and no finder: others take it up. */
  unlisted?: boolean;
  kit?: string;
  enter(bench: any): void;
  leave(bench: any): void;
  panel(bench: any): any;
  click?(spot: Spot): void;
  hover?(spot: Spot): void;
  /** One place of a stroke, in the order of the hand; `done`, with no place: the hand let go. */
  stroke?(spot: Spot | null, done: boolean): void;
  pick?(joint: string): void;
  keyed?(event: KeyboardEvent): boolean | void;
  drag?(name: string, place: Vector, done: boolean): void;
  meshChanged?(same: boolean): void;
}

/** A place of the house: what it shows on its sheets, and what it does with what is picked. */
export interface StationKind {
  left(bench: any): any;
  right(bench: any): any;
  /** What it keeps in the store for its sheets, with how it begins. */
  fields?: Record<string, any>;
  /** When one arrives; when one leaves. */
  enter?(bench: any): void;
  leave?(bench: any): void;
  /** Whenever the state has been learned while one is there. */
  shown?(bench: any): void;
  picked?(bench: any, name: string): void;
  /** A pose was kept, by hand. */
  posed?(bench: any, values: Values): void;
  pickPoint?(bench: any, index: number): void;
  /** Fade what is chosen here, if that is neither joint nor control. */
  fade?(bench: any): void;
  keys?: string[][];
  layers?: { joints?: boolean; controls?: boolean };
  levels?: Set<string>;
  large?: string;
  /** Front and side stand large beside each other, and the other drawings wait. */
  paired?: boolean;
  shading?(bench: any): string;
  /** The plate goes on showing its values until others come. */
  keepsValues?(bench: any): boolean;
  rest?: boolean;
  strip?: boolean;
  heat?: boolean;
  over?: boolean;
}
