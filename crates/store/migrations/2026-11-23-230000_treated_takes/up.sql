-- Levels of takes as they were cleaned, by the name of what was made of them.
CREATE TABLE cleaned_levels (
  take_id BIGINT UNSIGNED NOT NULL,
  name CHAR(16) CHARACTER SET ascii NOT NULL,
  levels JSON NOT NULL,
  PRIMARY KEY (take_id, name),
  FOREIGN KEY (take_id) REFERENCES takes (id) ON DELETE CASCADE
);

-- What loops are worth that were not among those found by measuring: set by hand, or of a take that is cleaned; by the name of both.
CREATE TABLE judged_loops (
  take_id BIGINT UNSIGNED NOT NULL,
  name CHAR(16) CHARACTER SET ascii NOT NULL,
  facts JSON NOT NULL,
  PRIMARY KEY (take_id, name),
  FOREIGN KEY (take_id) REFERENCES takes (id) ON DELETE CASCADE
);
