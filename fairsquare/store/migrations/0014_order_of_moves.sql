-- A move remembers the last reading and the last gap before it: what is old is then known by the order in which it was recorded, even
-- where the server's time was put back in between.

ALTER TABLE movement ADD COLUMN IF NOT EXISTS after_reading BIGINT NOT NULL DEFAULT 0;
ALTER TABLE movement ADD COLUMN IF NOT EXISTS after_gap BIGINT NOT NULL DEFAULT 0;
