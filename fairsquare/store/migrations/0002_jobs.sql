-- A job: one vehicle with its hit. The row is editable; every version of it is kept beside it.

CREATE TABLE IF NOT EXISTS job (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  number VARCHAR(20) NOT NULL,
  vehicle VARCHAR(120) NOT NULL,
  construction VARCHAR(20) NOT NULL,
  vin VARCHAR(40) NOT NULL,
  hit_where VARCHAR(20) NOT NULL,
  hit_from_deg SMALLINT NULL,
  hit_height VARCHAR(20) NOT NULL,
  hit_words VARCHAR(2000) NOT NULL,
  notes VARCHAR(8000) NOT NULL,
  version INT NOT NULL,
  revision BIGINT NOT NULL,
  opened_by BIGINT NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  touched_at DATETIME(6) NOT NULL,
  closed_at DATETIME(6) NULL,
  CONSTRAINT job_number UNIQUE (number),
  CONSTRAINT job_opened_by FOREIGN KEY (opened_by) REFERENCES person (id),
  CONSTRAINT job_construction CHECK (construction IN ('unibody', 'ladder', 'truck', 'aluminium', 'trailer')),
  CONSTRAINT job_hit_from CHECK (hit_from_deg IS NULL OR hit_from_deg BETWEEN 0 AND 359),
  INDEX job_touched (touched_at)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS job_version (
  job_id BIGINT NOT NULL,
  version INT NOT NULL,
  details LONGTEXT NOT NULL,
  changed_by BIGINT NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  PRIMARY KEY (job_id, version),
  CONSTRAINT job_version_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT job_version_person FOREIGN KEY (changed_by) REFERENCES person (id),
  CONSTRAINT job_version_details CHECK (JSON_VALID(details))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS safety_answer (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  item VARCHAR(40) NOT NULL,
  answer VARCHAR(10) NOT NULL,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT safety_answer_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT safety_answer_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT safety_answer_answer CHECK (answer IN ('done', 'absent', 'undone'))
) ENGINE = InnoDB;
