DROP TABLE cleaned_levels;
