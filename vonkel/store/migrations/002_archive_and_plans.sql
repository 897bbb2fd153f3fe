-- Characters may be put away, and plans of one's own are kept beside them.
ALTER TABLE character ADD COLUMN archived INTEGER NOT NULL DEFAULT 0;
CREATE TABLE plan (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name TEXT NOT NULL,
  body TEXT NOT NULL,
  made REAL NOT NULL
);
