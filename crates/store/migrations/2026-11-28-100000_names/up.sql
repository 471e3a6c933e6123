-- Passes and layers have names that last. What was referred to by its place is named by it, so that no row has to change.
ALTER TABLE takes MODIFY pass BIGINT UNSIGNED NOT NULL, MODIFY layer BIGINT UNSIGNED NOT NULL;

-- A fact is about a kind of thing, and of some about a part of it: a layer of a pass. Each statement does nothing the second time.
ALTER TABLE facts
  ADD COLUMN IF NOT EXISTS about VARCHAR(16) CHARACTER SET ascii NOT NULL DEFAULT '' AFTER instrument_id,
  ADD COLUMN IF NOT EXISTS part BIGINT UNSIGNED NOT NULL DEFAULT 0 AFTER target;
UPDATE facts SET about = CASE WHEN target = 0 THEN 'instrument' WHEN fact = 'slices' THEN 'long_take' ELSE 'take' END WHERE about = '';
ALTER TABLE facts DROP PRIMARY KEY, ADD PRIMARY KEY (instrument_id, about, target, part, fact);

-- The plan and the map are said part by part. A plan that was said as a whole is what its instrument begins with from now on.
UPDATE instruments JOIN facts ON facts.instrument_id = instruments.id AND facts.about = 'instrument' AND facts.fact = 'plan'
  SET instruments.plan = facts.value;
INSERT IGNORE INTO facts (instrument_id, about, target, part, fact, value)
  SELECT instrument_id, 'instrument', 0, 0, part.fact, JSON_EXTRACT(value, CONCAT('$.', part.fact)) FROM facts
  JOIN (SELECT 'furthest_stretch_keys' AS fact UNION SELECT 'below_keys' UNION SELECT 'above_keys') AS part
  WHERE facts.about = 'instrument' AND facts.fact = 'map' AND JSON_EXTRACT(value, CONCAT('$.', part.fact)) IS NOT NULL;
DELETE FROM facts WHERE about = 'instrument' AND fact IN ('plan', 'map');
-- What was done to those as wholes is listed, and not undone: 3. What of it was undone is not done again: 2.
UPDATE changes SET state = IF(state = 1, 2, 3)
  WHERE state IN (0, 1) AND (fields LIKE '%"fact":"plan"%' OR fields LIKE '%"fact":"map"%');

-- An export that waits works on a program without names.
UPDATE jobs SET state = 'failed', error = 'This was asked for by an earlier Ladder: ask for it again.'
  WHERE kind = 'export' AND state IN ('waiting', 'running');
