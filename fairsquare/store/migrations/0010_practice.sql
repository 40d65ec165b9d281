-- Practice: jobs that are none, numbered apart. The hidden blow follows from the seed; `state` is the simulated vehicle as it stands.

CREATE TABLE IF NOT EXISTS practice (
  job_id BIGINT NOT NULL PRIMARY KEY,
  seed INT NOT NULL,
  state LONGTEXT NULL,
  stepped_at DATETIME(6) NULL,
  ended_at DATETIME(6) NULL,
  result LONGTEXT NULL,
  CONSTRAINT practice_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT practice_state CHECK (state IS NULL OR JSON_VALID(state)),
  CONSTRAINT practice_result CHECK (result IS NULL OR JSON_VALID(result)),
  CONSTRAINT practice_seed CHECK (seed >= 0)
) ENGINE = InnoDB;
