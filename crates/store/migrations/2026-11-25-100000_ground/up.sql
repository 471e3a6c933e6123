-- Every statement can be repeated: a change of tables is no transaction, and a kill may come between two.

-- Jobs count their tries and wait longer after each.
ALTER TABLE jobs
  MODIFY COLUMN holder VARCHAR(96) CHARACTER SET ascii NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS tries INT UNSIGNED NOT NULL DEFAULT 0,
  ADD COLUMN IF NOT EXISTS not_before DATETIME(3) NULL,
  ADD COLUMN IF NOT EXISTS ended_at DATETIME(3) NULL,
  ADD INDEX IF NOT EXISTS of_instrument (instrument_id, kind, id);
UPDATE jobs SET ended_at = CURRENT_TIMESTAMP(3) WHERE ended_at IS NULL AND state NOT IN ('waiting', 'running');

-- A recording that is going belongs to the server that holds its lease. `goes_on`: where it may be resumed.
ALTER TABLE runs
  ADD COLUMN IF NOT EXISTS holder VARCHAR(96) CHARACTER SET ascii NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS lease_until DATETIME(3) NULL,
  ADD COLUMN IF NOT EXISTS goes_on VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT 'anywhere';

-- The spool that a take was made from: kept twice, it is one take.
ALTER TABLE takes ADD COLUMN IF NOT EXISTS spool CHAR(36) CHARACTER SET ascii NULL, ADD UNIQUE INDEX IF NOT EXISTS one_of_a_spool (spool);
ALTER TABLE long_takes
  ADD COLUMN IF NOT EXISTS spool CHAR(36) CHARACTER SET ascii NULL,
  ADD COLUMN IF NOT EXISTS broken_off BOOLEAN NOT NULL DEFAULT FALSE,
  ADD UNIQUE INDEX IF NOT EXISTS one_of_a_spool (spool);

-- When somebody last said that the file will be there: what nobody refers to goes some time after.
ALTER TABLE recordings ADD COLUMN IF NOT EXISTS noted_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3);

CREATE TABLE IF NOT EXISTS sound_checks (
  instrument_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  sound_check JSON NOT NULL,
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);

-- Numbers of events are given one transaction after another, so that a higher one is never seen before a lower one.
CREATE TABLE IF NOT EXISTS event_order (
  one TINYINT UNSIGNED NOT NULL PRIMARY KEY,
  last BIGINT UNSIGNED NOT NULL
);
INSERT IGNORE INTO event_order SELECT 1, COALESCE(MAX(id), 0) FROM events;
