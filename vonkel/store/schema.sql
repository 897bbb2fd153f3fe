-- The whole schema as of the newest migration.  A new store is made from this; older ones from migrations/.
CREATE TABLE character (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name TEXT NOT NULL,
  created REAL NOT NULL,
  changed REAL NOT NULL,
  head INTEGER,               -- the step one stands on
  tip INTEGER,                -- the newest step of the line that head lies on (redo walks towards it)
  pose INTEGER NOT NULL DEFAULT 0,      -- the pose entry one stands on, 0 is rest
  pose_tip INTEGER NOT NULL DEFAULT 0,
  archived INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE plan (           -- skeletons saved to be laid into other meshes
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name TEXT NOT NULL,
  body TEXT NOT NULL,         -- JSON
  made REAL NOT NULL
);
CREATE TABLE blob (
  hash TEXT PRIMARY KEY,
  dtype TEXT NOT NULL,
  shape TEXT NOT NULL,        -- JSON list
  data BLOB NOT NULL
) WITHOUT ROWID;
CREATE TABLE snapshot (
  hash TEXT PRIMARY KEY,
  document BLOB NOT NULL,     -- the structure as zlib-packed JSON
  arrays TEXT NOT NULL        -- JSON: array name -> blob hash
) WITHOUT ROWID;
CREATE TABLE step (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  character INTEGER NOT NULL REFERENCES character(id) ON DELETE CASCADE,
  parent INTEGER,
  number INTEGER NOT NULL,    -- 1, 2, 3 ... along its line
  name TEXT NOT NULL,
  params TEXT NOT NULL,       -- JSON; arrays as {"array": blob hash}
  sentence TEXT NOT NULL,
  snapshot TEXT,              -- NULL once compacted: made again by replaying from the nearest earlier one
  made REAL NOT NULL,
  seconds REAL NOT NULL
);
CREATE TABLE dropped (        -- what a snapshot was that has been compacted away
  step INTEGER PRIMARY KEY REFERENCES step(id) ON DELETE CASCADE,
  hash TEXT NOT NULL
);
CREATE INDEX step_of_character ON step(character, parent);
CREATE TABLE milestone (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  character INTEGER NOT NULL REFERENCES character(id) ON DELETE CASCADE,
  step INTEGER NOT NULL REFERENCES step(id),
  name TEXT NOT NULL,
  made REAL NOT NULL
);
CREATE TABLE pose (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  character INTEGER NOT NULL REFERENCES character(id) ON DELETE CASCADE,
  parent INTEGER NOT NULL,
  step INTEGER NOT NULL,      -- the step one stood on when it was made
  vals TEXT NOT NULL,         -- JSON: control -> channel -> value
  label TEXT NOT NULL,
  made REAL NOT NULL
);
CREATE INDEX pose_of_character ON pose(character, parent);
CREATE TABLE result (         -- what was read from a snapshot and took long: trials
  snapshot TEXT NOT NULL,
  kind TEXT NOT NULL,
  body BLOB NOT NULL,
  PRIMARY KEY (snapshot, kind)
) WITHOUT ROWID;
