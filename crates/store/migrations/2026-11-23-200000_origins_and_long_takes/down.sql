DROP TABLE patterns;
DROP TABLE long_takes;
ALTER TABLE takes DROP COLUMN origin;
