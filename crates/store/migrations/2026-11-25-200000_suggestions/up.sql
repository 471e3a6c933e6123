-- What follows from a measurement, kept beside it: an algorithm that changes changes nothing that is finished.
CREATE TABLE IF NOT EXISTS suggestions (
  take_id BIGINT UNSIGNED NOT NULL,
  version INT UNSIGNED NOT NULL,
  kind VARCHAR(16) CHARACTER SET ascii NOT NULL,
  rung_key TINYINT UNSIGNED NOT NULL,
  suggestion JSON NOT NULL,
  PRIMARY KEY (take_id, version, kind, rung_key),
  FOREIGN KEY (take_id) REFERENCES takes (id) ON DELETE CASCADE
);
