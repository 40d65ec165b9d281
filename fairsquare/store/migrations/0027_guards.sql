-- What must not cross is guarded by a write to a row that both would write: a lock alone holds on one node of a cluster only.

ALTER TABLE job ADD COLUMN IF NOT EXISTS guarded BIGINT NOT NULL DEFAULT 0;

ALTER TABLE person ADD COLUMN IF NOT EXISTS guarded BIGINT NOT NULL DEFAULT 0;
