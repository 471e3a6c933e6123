-- What belongs to no instrument and is used with all: shapes under a name, how loud the shelf is meant to be.
CREATE TABLE IF NOT EXISTS kept (
  kind VARCHAR(32) CHARACTER SET ascii NOT NULL,
  name VARCHAR(120) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  said MEDIUMTEXT NOT NULL,
  PRIMARY KEY (kind, name)
);
