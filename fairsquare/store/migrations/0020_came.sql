-- Jobs that came from another shop as a file: everything recorded of them there, to the letter. They are read here, never added to.

CREATE TABLE IF NOT EXISTS job_came (
  job_id BIGINT NOT NULL PRIMARY KEY,
  sha256 CHAR(64) NOT NULL,
  workshop VARCHAR(200) NOT NULL,
  number VARCHAR(40) NOT NULL,
  manifest LONGTEXT NOT NULL,
  facts LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT job_came_once UNIQUE (sha256),
  CONSTRAINT job_came_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT job_came_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT job_came_json CHECK (JSON_VALID(manifest) AND JSON_VALID(facts))
) ENGINE = InnoDB;
