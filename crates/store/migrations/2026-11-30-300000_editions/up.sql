-- What was given away and never changes: the files themselves under their hashes, and the state that they were made from.
CREATE TABLE IF NOT EXISTS editions (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT,
  instrument_id BIGINT UNSIGNED NOT NULL,
  number INT UNSIGNED NOT NULL,
  notes TEXT NOT NULL,
  made_at DATETIME(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3),
  frozen LONGTEXT NOT NULL,
  files MEDIUMTEXT NOT NULL,
  PRIMARY KEY (id),
  UNIQUE KEY numbered (instrument_id, number),
  CONSTRAINT edition_of FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);
CREATE TABLE IF NOT EXISTS edition_recordings (
  edition_id BIGINT UNSIGNED NOT NULL,
  recording CHAR(64) CHARACTER SET ascii NOT NULL,
  PRIMARY KEY (edition_id, recording),
  KEY of_recording (recording),
  CONSTRAINT recording_of_edition FOREIGN KEY (edition_id) REFERENCES editions (id) ON DELETE CASCADE
);
