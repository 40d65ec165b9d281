-- What driving or loading takes back of a pull: where the pulled points stood before it, and where they were read after it.

CREATE TABLE IF NOT EXISTS settling (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  how VARCHAR(10) NOT NULL,
  words VARCHAR(300) NOT NULL,
  stood LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT settling_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT settling_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT settling_how CHECK (how IN ('driven', 'loaded')),
  CONSTRAINT settling_stood CHECK (JSON_VALID(stood))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS settling_read (
  settling_id BIGINT NOT NULL PRIMARY KEY,
  stands LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT settling_read_of FOREIGN KEY (settling_id) REFERENCES settling (id),
  CONSTRAINT settling_read_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT settling_read_stands CHECK (JSON_VALID(stands))
) ENGINE = InnoDB;
