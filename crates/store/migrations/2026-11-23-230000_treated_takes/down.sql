DROP TABLE judged_loops;
DROP TABLE cleaned_levels;
