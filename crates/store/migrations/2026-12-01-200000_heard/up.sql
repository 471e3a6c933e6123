-- What was heard of an instrument, under a name of all that it follows from. Nothing is lost with it: it is heard again.
CREATE TABLE IF NOT EXISTS heard (
  instrument_id BIGINT UNSIGNED NOT NULL,
  name CHAR(40) CHARACTER SET ascii NOT NULL,
  facts JSON NOT NULL,
  PRIMARY KEY (instrument_id, name),
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);
