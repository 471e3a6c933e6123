DROP TABLE waiting_files;
ALTER TABLE runs CHANGE COLUMN settings speed VARCHAR(16) CHARACTER SET ascii NOT NULL;
DROP TABLE patterns;
DROP TABLE long_takes;
ALTER TABLE takes DROP COLUMN origin;
