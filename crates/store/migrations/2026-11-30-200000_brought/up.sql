-- Instruments that others made: what was read, where its recordings have their places, and the file that it came from.
CREATE TABLE IF NOT EXISTS brought (
  instrument_id BIGINT UNSIGNED NOT NULL,
  was_read LONGTEXT NOT NULL,
  file TEXT NOT NULL,
  source CHAR(64) CHARACTER SET ascii NOT NULL,
  lost MEDIUMTEXT NOT NULL,
  PRIMARY KEY (instrument_id),
  KEY of_source (source),
  CONSTRAINT brought_of FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);
