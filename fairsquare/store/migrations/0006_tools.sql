-- Readings of every kind: spans, differences, heights, offsets and gauges beside points; the tools that the shop owns; and
-- readings that a person keeps out of the picture, or takes in again. Rows are appended and never changed.

CREATE TABLE IF NOT EXISTS tool (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  kind VARCHAR(20) NOT NULL,
  sigma_mm DOUBLE NOT NULL,
  from_mm DOUBLE NULL,
  to_mm DOUBLE NULL,
  pointer_mm DOUBLE NULL,
  pin_mm DOUBLE NULL,
  added_by BIGINT NULL,
  added_at DATETIME(6) NOT NULL,
  retired_by BIGINT NULL,
  retired_at DATETIME(6) NULL,
  CONSTRAINT tool_added_by FOREIGN KEY (added_by) REFERENCES person (id),
  CONSTRAINT tool_retired_by FOREIGN KEY (retired_by) REFERENCES person (id),
  CONSTRAINT tool_kind CHECK (kind IN ('tape', 'tram', 'gauges', 'line', 'level', 'square')),
  CONSTRAINT tool_sigma CHECK (sigma_mm > 0)
) ENGINE = InnoDB;

ALTER TABLE setup
  ADD COLUMN IF NOT EXISTS kind VARCHAR(12) NOT NULL DEFAULT 'instrument',
  DROP CONSTRAINT IF EXISTS setup_kind;
ALTER TABLE setup ADD CONSTRAINT setup_kind CHECK (kind IN ('instrument', 'sight'));

ALTER TABLE movement DROP CONSTRAINT IF EXISTS movement_what, DROP CONSTRAINT IF EXISTS movement_what_moved;
ALTER TABLE movement ADD CONSTRAINT movement_what_moved CHECK
  (what IN ('vehicle', 'bench', 'bridge', 'structure', 'sight'));

ALTER TABLE reading
  ADD COLUMN IF NOT EXISTS kind VARCHAR(12) NOT NULL DEFAULT 'point',
  ADD COLUMN IF NOT EXISTS code_b VARCHAR(40) COLLATE utf8mb4_bin NULL,
  ADD COLUMN IF NOT EXISTS mode VARCHAR(20) NULL,
  ADD COLUMN IF NOT EXISTS axis VARCHAR(8) NULL,
  ADD COLUMN IF NOT EXISTS mm DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS pin_mm DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS level_mm DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS arm_mm DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS sigma_mm DOUBLE NULL,
  ADD COLUMN IF NOT EXISTS called_at DATETIME(6) NULL,
  MODIFY COLUMN setup_id BIGINT NULL,
  MODIFY COLUMN x DOUBLE NULL,
  MODIFY COLUMN y DOUBLE NULL,
  MODIFY COLUMN z DOUBLE NULL;

ALTER TABLE reading DROP CONSTRAINT IF EXISTS reading_kind, DROP CONSTRAINT IF EXISTS reading_sigma;
ALTER TABLE reading ADD CONSTRAINT reading_kind CHECK (
  (kind = 'point' AND setup_id IS NOT NULL AND x IS NOT NULL AND y IS NOT NULL AND z IS NOT NULL)
  OR (kind = 'span' AND code_b IS NOT NULL AND mode IN ('point_to_point', 'datum_parallel') AND mm > 0)
  OR (kind = 'difference' AND code_b IS NOT NULL AND axis IN ('length', 'width', 'height') AND mm IS NOT NULL)
  OR (kind IN ('height', 'offset') AND setup_id IS NOT NULL AND mm IS NOT NULL)
  OR (kind = 'gauge' AND setup_id IS NOT NULL AND code_b IS NOT NULL AND (pin_mm IS NOT NULL OR level_mm IS NOT NULL))
);
ALTER TABLE reading ADD CONSTRAINT reading_sigma CHECK (kind = 'point' OR sigma_mm > 0);

CREATE TABLE IF NOT EXISTS reading_decision (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  reading_id BIGINT NOT NULL,
  keep_out BOOLEAN NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT reading_decision_reading FOREIGN KEY (reading_id) REFERENCES reading (id),
  CONSTRAINT reading_decision_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;
