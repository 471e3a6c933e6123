CREATE TABLE instruments (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) NOT NULL,
  plan JSON NOT NULL,
  kept_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3)
) CHARACTER SET utf8mb4;

CREATE TABLE recordings (
  hash CHAR(64) NOT NULL PRIMARY KEY,
  rate_hz INT UNSIGNED NOT NULL,
  channels SMALLINT UNSIGNED NOT NULL,
  bits SMALLINT UNSIGNED NOT NULL,
  frames BIGINT UNSIGNED NOT NULL
) CHARACTER SET ascii;

CREATE TABLE takes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  pass SMALLINT UNSIGNED NOT NULL,
  rung_key TINYINT UNSIGNED NOT NULL,
  layer SMALLINT UNSIGNED NOT NULL,
  round_robin SMALLINT UNSIGNED NOT NULL,
  recording CHAR(64) CHARACTER SET ascii NOT NULL,
  first_frame BIGINT UNSIGNED NOT NULL,
  frames BIGINT UNSIGNED NOT NULL,
  made_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  thumbnail BLOB NULL,
  INDEX (instrument_id),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE,
  FOREIGN KEY (recording) REFERENCES recordings (hash)
);

-- What was measured: appended, never changed.
CREATE TABLE measurements (
  take_id BIGINT UNSIGNED NOT NULL,
  version INT UNSIGNED NOT NULL,
  facts JSON NOT NULL,
  PRIMARY KEY (take_id, version),
  FOREIGN KEY (take_id) REFERENCES takes (id) ON DELETE CASCADE
);

-- What the user said: sparse. `target` is 0 for the instrument, else a take.
CREATE TABLE facts (
  instrument_id BIGINT UNSIGNED NOT NULL,
  target BIGINT UNSIGNED NOT NULL,
  fact VARCHAR(32) CHARACTER SET ascii NOT NULL,
  value JSON NOT NULL,
  PRIMARY KEY (instrument_id, target, fact),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);

CREATE TABLE changes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  label VARCHAR(255) CHARACTER SET utf8mb4 NOT NULL,
  fields JSON NOT NULL,
  -- 0 done, 1 undone, 2 undone and overtaken by another change
  state TINYINT UNSIGNED NOT NULL DEFAULT 0,
  made_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  INDEX (instrument_id, state),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);

-- A run that is to go on after a restart.
CREATE TABLE runs (
  instrument_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  speed VARCHAR(16) CHARACTER SET ascii NOT NULL,
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);

CREATE TABLE jobs (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(32) CHARACTER SET ascii NOT NULL,
  input JSON NOT NULL,
  -- waiting, running, done, failed, cancelled
  state VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT 'waiting',
  holder VARCHAR(64) CHARACTER SET ascii NOT NULL DEFAULT '',
  lease_until DATETIME(3) NULL,
  share DOUBLE NOT NULL DEFAULT 0,
  result JSON NULL,
  error TEXT CHARACTER SET utf8mb4 NULL,
  INDEX (state, id),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);

CREATE TABLE events (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(32) CHARACTER SET ascii NOT NULL,
  body JSON NOT NULL
);
