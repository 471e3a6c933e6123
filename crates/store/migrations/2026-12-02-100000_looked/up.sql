-- How much there was to look at when an instrument was looked at last. Nothing is lost with it: it is counted again.
CREATE TABLE IF NOT EXISTS looked (
  instrument_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  wrong INT UNSIGNED NOT NULL,
  look INT UNSIGNED NOT NULL,
  FOREIGN KEY (instrument_id) REFERENCES instruments (id) ON DELETE CASCADE
);
