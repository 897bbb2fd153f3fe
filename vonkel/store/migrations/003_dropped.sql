-- What a snapshot was that has been compacted away: what is made again by replaying is compared with it.
CREATE TABLE IF NOT EXISTS dropped (
  step INTEGER PRIMARY KEY REFERENCES step(id) ON DELETE CASCADE,
  hash TEXT NOT NULL
);
