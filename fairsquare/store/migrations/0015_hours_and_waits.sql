-- The hours of a job (what is said of them is a topic of job_said), who works on what, and what a job waits for. Rows are appended.

ALTER TABLE job_said DROP CONSTRAINT IF EXISTS job_said_topic, DROP CONSTRAINT IF EXISTS job_said_about;
ALTER TABLE job_said ADD CONSTRAINT job_said_about CHECK (topic IN ('fit', 'seam', 'bond', 'hours'));

CREATE TABLE IF NOT EXISTS work_clock (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  operation VARCHAR(60) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY work_clock_person (person_id, at),
  CONSTRAINT work_clock_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT work_clock_by FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS work_ended (
  clock_id BIGINT NOT NULL PRIMARY KEY,
  ended_at DATETIME(6) NOT NULL,
  how VARCHAR(8) NOT NULL,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT work_ended_of FOREIGN KEY (clock_id) REFERENCES work_clock (id),
  CONSTRAINT work_ended_by FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT work_ended_how CHECK (how IN ('touch', 'next', 'said'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS work_taken_back (
  clock_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT work_taken_back_of FOREIGN KEY (clock_id) REFERENCES work_clock (id),
  CONSTRAINT work_taken_back_by FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS wait (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  kind VARCHAR(12) NOT NULL,
  words VARCHAR(200) NOT NULL,
  station VARCHAR(20) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT wait_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT wait_by FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT wait_kind CHECK (kind IN ('part', 'approval', 'refrigerant', 'mechanic', 'foam', 'paint', 'other'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS wait_said (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  wait_id BIGINT NOT NULL,
  asked_of VARCHAR(120) NOT NULL,
  due_at DATETIME(6) NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT wait_said_of FOREIGN KEY (wait_id) REFERENCES wait (id),
  CONSTRAINT wait_said_by FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS wait_over (
  wait_id BIGINT NOT NULL PRIMARY KEY,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT wait_over_of FOREIGN KEY (wait_id) REFERENCES wait (id),
  CONSTRAINT wait_over_by FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;
