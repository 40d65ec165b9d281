-- What the estimate missed: lines, the documents in which they are sent, and the payer's answers. And the parts that came, held
-- against the old ones. Rows are appended and never changed.

CREATE TABLE IF NOT EXISTS supplement_line (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  station VARCHAR(30) NOT NULL,
  words VARCHAR(500) NOT NULL,
  hours DOUBLE NOT NULL,
  parts VARCHAR(500) NOT NULL,
  amount_cents BIGINT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_line_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT supplement_line_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT supplement_line_amounts CHECK (hours >= 0 AND amount_cents >= 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement_line_taken_back (
  line_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_line_taken_back_line FOREIGN KEY (line_id) REFERENCES supplement_line (id),
  CONSTRAINT supplement_line_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  number INT NOT NULL,
  payer VARCHAR(200) NOT NULL,
  seen LONGTEXT NOT NULL,
  code_sha256 BINARY(32) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_number UNIQUE (job_id, number),
  CONSTRAINT supplement_code UNIQUE (code_sha256),
  CONSTRAINT supplement_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT supplement_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT supplement_seen CHECK (JSON_VALID(seen))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement_sent_line (
  supplement_id BIGINT NOT NULL,
  line_id BIGINT NOT NULL,
  PRIMARY KEY (supplement_id, line_id),
  CONSTRAINT supplement_sent_line_supplement FOREIGN KEY (supplement_id) REFERENCES supplement (id),
  CONSTRAINT supplement_sent_line_line FOREIGN KEY (line_id) REFERENCES supplement_line (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement_withdrawn (
  supplement_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_withdrawn_supplement FOREIGN KEY (supplement_id) REFERENCES supplement (id),
  CONSTRAINT supplement_withdrawn_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement_answer (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  line_id BIGINT NOT NULL,
  supplement_id BIGINT NOT NULL,
  answer VARCHAR(12) NOT NULL,
  words VARCHAR(1000) NOT NULL,
  named VARCHAR(120) NOT NULL,
  person_id BIGINT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_answer_line FOREIGN KEY (line_id) REFERENCES supplement_line (id),
  CONSTRAINT supplement_answer_supplement FOREIGN KEY (supplement_id) REFERENCES supplement (id),
  CONSTRAINT supplement_answer_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT supplement_answer_what CHECK (answer IN ('approved', 'refused', 'asked'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS supplement_go_ahead (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  line_id BIGINT NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT supplement_go_ahead_line FOREIGN KEY (line_id) REFERENCES supplement_line (id),
  CONSTRAINT supplement_go_ahead_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS link_try (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  address VARCHAR(64) NOT NULL,
  found BOOLEAN NOT NULL,
  at DATETIME(6) NOT NULL,
  INDEX link_try_address (address, at)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS part (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  name VARCHAR(200) NOT NULL,
  origin VARCHAR(12) NOT NULL,
  source VARCHAR(200) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT part_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT part_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT part_origin CHECK (origin IN ('new', 'donor'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS part_item (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  part_id BIGINT NOT NULL,
  kind VARCHAR(12) NOT NULL,
  words VARCHAR(200) NOT NULL,
  old_count INT NOT NULL,
  new_count INT NOT NULL,
  plan VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT part_item_part FOREIGN KEY (part_id) REFERENCES part (id),
  CONSTRAINT part_item_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT part_item_kind CHECK (kind IN ('bracket', 'nut', 'stud', 'hole', 'pad', 'layer', 'other')),
  CONSTRAINT part_item_counts CHECK (old_count >= 0 AND new_count >= 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS part_measured (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  part_id BIGINT NOT NULL,
  a VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  b VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  said VARCHAR(200) NOT NULL,
  mm DOUBLE NOT NULL,
  sigma_mm DOUBLE NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT part_measured_part FOREIGN KEY (part_id) REFERENCES part (id),
  CONSTRAINT part_measured_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT part_measured_mm CHECK (mm > 0 AND sigma_mm > 0)
) ENGINE = InnoDB;
