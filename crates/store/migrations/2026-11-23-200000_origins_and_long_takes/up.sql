-- Where a take came from and what was said of it when it was made.
ALTER TABLE takes ADD COLUMN origin JSON NULL;

-- Recordings that are sliced: takes are parts of them.
CREATE TABLE long_takes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(255) CHARACTER SET utf8mb4 NOT NULL,
  recording CHAR(64) CHARACTER SET ascii NOT NULL,
  made_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  INDEX (instrument_id),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE,
  FOREIGN KEY (recording) REFERENCES recordings (hash)
);

-- Plans kept to be used again.
CREATE TABLE patterns (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(255) CHARACTER SET utf8mb4 NOT NULL,
  plan JSON NOT NULL
);

ALTER TABLE runs CHANGE COLUMN speed settings TEXT CHARACTER SET utf8mb4 NOT NULL;

-- Files that were dropped on the page and are not yet taken in.
CREATE TABLE waiting_files (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  instrument_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(1024) CHARACTER SET utf8mb4 NOT NULL,
  recording CHAR(64) CHARACTER SET ascii NOT NULL,
  heard JSON NOT NULL,
  INDEX (instrument_id),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE,
  FOREIGN KEY (recording) REFERENCES recordings (hash)
);
