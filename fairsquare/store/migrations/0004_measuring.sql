-- Set-ups and readings. Rows are appended and never changed: a correction is a new row that names the one it replaces.

CREATE TABLE IF NOT EXISTS setup (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  number INT NOT NULL,
  instrument VARCHAR(120) NOT NULL,
  sigma_mm DOUBLE NOT NULL,
  sheet_version INT NOT NULL,
  opened_by BIGINT NOT NULL,
  opened_at DATETIME(6) NOT NULL,
  CONSTRAINT setup_number UNIQUE (job_id, number),
  CONSTRAINT setup_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT setup_person FOREIGN KEY (opened_by) REFERENCES person (id),
  CONSTRAINT setup_sigma CHECK (sigma_mm > 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS movement (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  setup_id BIGINT NULL,
  what VARCHAR(20) NOT NULL,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT movement_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT movement_setup FOREIGN KEY (setup_id) REFERENCES setup (id),
  CONSTRAINT movement_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT movement_what CHECK (what IN ('vehicle', 'bench', 'bridge', 'structure'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS setup_choice (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  setup_id BIGINT NOT NULL,
  trusted LONGTEXT NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT setup_choice_setup FOREIGN KEY (setup_id) REFERENCES setup (id),
  CONSTRAINT setup_choice_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT setup_choice_trusted CHECK (JSON_VALID(trusted))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS instrument_order (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  setup_id BIGINT NOT NULL,
  purpose VARCHAR(10) NOT NULL,
  code VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT instrument_order_setup FOREIGN KEY (setup_id) REFERENCES setup (id),
  CONSTRAINT instrument_order_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT instrument_order_purpose CHECK (purpose IN ('reference', 'point'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS reading (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  setup_id BIGINT NOT NULL,
  purpose VARCHAR(10) NOT NULL,
  code VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  x DOUBLE NOT NULL,
  y DOUBLE NOT NULL,
  z DOUBLE NOT NULL,
  said VARCHAR(500) NOT NULL,
  loaded BOOLEAN NOT NULL,
  instrument VARCHAR(120) NOT NULL,
  replaces_id BIGINT NULL,
  order_id BIGINT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT reading_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT reading_setup FOREIGN KEY (setup_id) REFERENCES setup (id),
  CONSTRAINT reading_replaces FOREIGN KEY (replaces_id) REFERENCES reading (id),
  CONSTRAINT reading_order FOREIGN KEY (order_id) REFERENCES instrument_order (id),
  CONSTRAINT reading_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT reading_purpose CHECK (purpose IN ('reference', 'point'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS reading_taken_back (
  reading_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT reading_taken_back_reading FOREIGN KEY (reading_id) REFERENCES reading (id),
  CONSTRAINT reading_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;
