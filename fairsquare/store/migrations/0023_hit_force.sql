-- How hard the hit was and how the vehicle moved, as it was told at take-in: what is looked for far from the hit depends on it.

ALTER TABLE job
  ADD COLUMN IF NOT EXISTS hit_force VARCHAR(20) NOT NULL DEFAULT 'unknown',
  ADD COLUMN IF NOT EXISTS hit_moved VARCHAR(20) NOT NULL DEFAULT 'unknown';
