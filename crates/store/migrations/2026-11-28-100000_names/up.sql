-- Passes and layers have names that last. What was referred to by its place is named by it, so that no row has to change.
ALTER TABLE takes MODIFY pass BIGINT UNSIGNED NOT NULL, MODIFY layer BIGINT UNSIGNED NOT NULL;
