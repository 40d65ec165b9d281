-- The gap check, signatures over what was seen, and the records that were made.

CREATE TABLE IF NOT EXISTS gap_reading (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  place VARCHAR(120) NOT NULL,
  said VARCHAR(200) NOT NULL,
  mm DOUBLE NOT NULL,
  target_mm DOUBLE NOT NULL,
  tolerance_mm DOUBLE NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT gap_reading_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT gap_reading_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT gap_reading_tolerance CHECK (tolerance_mm > 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS signature (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  hold VARCHAR(20) NOT NULL,
  evidence LONGTEXT NOT NULL,
  overridden LONGTEXT NOT NULL,
  reason VARCHAR(2000) NULL,
  seen LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT signature_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT signature_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT signature_hold CHECK (hold IN ('made_safe', 'setup_accepted', 'fit_accepted')),
  CONSTRAINT signature_evidence CHECK (JSON_VALID(evidence) AND JSON_VALID(overridden) AND JSON_VALID(seen))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS record (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  sha256 CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT record_sha256 UNIQUE (sha256),
  CONSTRAINT record_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT record_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;
