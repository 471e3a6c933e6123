-- Beside the plan: map, strands, shapes, effects and panel. What was kept before has a plan alone.
ALTER TABLE patterns ADD COLUMN IF NOT EXISTS held LONGTEXT NULL;
