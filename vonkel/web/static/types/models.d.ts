// Written by tools/page_types.py from the server's models; don't change it by hand.
export interface Between {
  name: string;
  a: string;
  b: string;
  place: [number, number, number];
}

export interface Board {
  name: string;
  region: string;
  pictures: BoardPicture[];
  curve: Curve;
  blend: "near" | "corners";
  strength: number;
  snap: "none" | "whole" | "half" | "third" | "quarter";
  shared: boolean;
  low: [number, number];
  high: [number, number];
  spot: [number, number];
  size: number;
}

export interface BoardPicture {
  key: string;
  shapes: Record<string, number>;
  pose: Record<string, Record<string, number>>;
  place: [number, number];
  own: boolean;
}

export interface Channel {
  name: string;
  kind: "move" | "turn" | "size" | "value";
  rest: number;
  low: number | null;
  high: number | null;
  locked: boolean;
  added: boolean;
  limited: boolean;
}

export interface Character {
  version: 2;
  name: string;
  about: string;
  parts: Part[];
  joints: Joint[];
  kits: Kit[];
  controls: Control[];
  rules: (Follow | Space | Link | Spring | Swing)[];
  order: string[];
  shapes: Shape[];
  regions: Region[];
  boards: Board[];
  face: Face | null;
  poses: SavedPose[];
  clips: Clip[];
  rate: number;
  limits: Record<string, number>;
  skin: Skin | null;
  plan: string;
  groups: string[];
  pictures: Picture[];
  left_out: string[];
}

export interface Clip {
  name: string;
  rate: number;
  tracks: Track[];
  keyed: boolean;
  end: number;
  loop: boolean;
  stands: Stand[];
}

export interface Control {
  name: string;
  kit: string;
  key: string;
  label: string;
  side: "L" | "R" | "C";
  level: string;
  place: [number, number, number];
  turn: [number, number, number, number];
  order: "xyz" | "xzy" | "yxz" | "yzx" | "zxy" | "zyx";
  channels: Channel[];
  outline: [number, number, number][];
  shape: string;
  grow: number;
}

export interface Corrective {
  name: string;
  joint: string;
  weights: number[];
}

export interface Curve {
  keys: CurveKey[];
  manner: "linear" | "smooth" | "stepped";
  past: "hold" | "continue";
}

export interface CurveKey {
  at: number;
  value: number;
}

export interface Face {
  marks: FaceMark[];
  apart: string[];
  made: Record<string, Record<string, [number, number, number]>>;
}

export interface FaceMark {
  name: string;
  place: [number, number, number];
  sure: number;
  how: string;
  settled: boolean;
}

export interface Finding {
  station: string;
  level: "must" | "should" | "note";
  title: string;
  detail: string;
  joints: string[];
  points: number[];
  mend: Mend | null;
}

export interface Follow {
  name: string;
  kit: string;
  on: boolean;
  kind: "follow";
  thing: string;
  sources: string[];
  weights: number[];
  what: "all" | "place" | "turn" | "size" | "aim";
  axes: [boolean, boolean, boolean];
  strength: number;
  reading: "world" | "local";
}

export interface Follower {
  thing: string;
  channel: string;
  curve: Curve;
}

export interface Freedom {
  low: [number | null, number | null, number | null];
  high: [number | null, number | null, number | null];
  locked: [boolean, boolean, boolean];
  stiffness: number;
  source: string;
}

export interface HandedSkin {
  between: Between[];
  correctives: Corrective[];
  seal: string;
}

export interface Joint {
  name: string;
  parent: string | null;
  side: "L" | "R" | "C";
  place: [number, number, number];
  turn: [number, number, number, number];
  deforms: boolean;
  role: string;
  order: "xyz" | "xzy" | "yxz" | "yzx" | "zxy" | "zyx";
  aim: "x" | "y" | "z" | "-x" | "-y" | "-z";
  hinge: "x" | "y" | "z" | "-x" | "-y" | "-z";
  freedom: Freedom | null;
  doubt: number;
}

export interface Kit {
  name: string;
  kind: string;
  side: "L" | "R" | "C";
  joints: Record<string, string[]>;
  options: Record<string, number | number | string | boolean>;
  places: Record<string, [number, number, number]>;
  shapes: Record<string, string>;
}

export interface Lead {
  kind: "channel" | "distance" | "swing" | "twist" | "bend" | "toward";
  thing: string;
  channel: string;
  other: string;
  way: [number, number, number];
}

export interface Link {
  name: string;
  kit: string;
  on: boolean;
  kind: "link";
  lead: Lead;
  followers: Follower[];
  rounding: "none" | "whole" | "half" | "third" | "quarter";
}

export interface Mend {
  label: string;
  step: string;
  params: Record<string, any>;
}

export interface Part {
  name: string;
  role: "skin" | "eye" | "lid" | "teeth" | "tongue" | "rigid" | "prop" | "line";
  points: [number, number];
  faces: [number, number];
  lines: [number, number];
  shading: "smooth" | "hard";
  carried: number[] | null;
  colour: string;
  hidden: boolean;
  locked: boolean;
}

export interface Picture {
  name: string;
  view: "front" | "side" | "top";
  place: [number, number];
  width: number;
  strength: number;
  hidden: boolean;
}

export interface Region {
  name: string;
  rim: boolean;
  allow: number;
}

export interface SavedPose {
  name: string;
  values: Record<string, Record<string, number>>;
}

export interface Shape {
  name: string;
  low: number;
  high: number;
  heading: string;
  region: string;
  even: boolean;
  of: string[];
  between: string;
  at: number;
}

export interface Skin {
  joints: string[];
  locked: string[];
  handed: HandedSkin | null;
  method: "linear" | "dual" | "mixed";
  smoothing: number;
  smoother: "posed" | "beforehand";
  influences: number;
}

export interface Space {
  name: string;
  kit: string;
  on: boolean;
  kind: "space";
  control: string;
  sources: string[];
  labels: string[];
  what: "all" | "turn" | "place";
}

export interface Spring {
  name: string;
  kit: string;
  on: boolean;
  kind: "spring";
  things: string[];
  stiffness: number;
  damping: number;
  pull: number;
  weight: number;
  strength: number;
  wind: [number, number, number];
  gusts: number;
}

export interface Stand {
  control: string;
  frames: [number, number][];
}

export interface Swing {
  name: string;
  kit: string;
  on: boolean;
  kind: "swing";
  rate: number;
  swingers: Swinger[];
  strength: number;
}

export interface Swinger {
  control: string;
  channel: string;
  angle: number;
  phase: number;
}

export interface Track {
  thing: string;
  channel: string;
}
