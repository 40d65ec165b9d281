-- From the walk-round to the decision: who did what needs a qualification, what was seen, photos of it, what was settled, and
-- what each member is and what is done with it. Rows are appended and never changed.

ALTER TABLE safety_answer
  ADD COLUMN IF NOT EXISTS done_by VARCHAR(120) NULL,
  ADD COLUMN IF NOT EXISTS qualification VARCHAR(120) NULL;

ALTER TABLE signature DROP CONSTRAINT IF EXISTS signature_hold, DROP CONSTRAINT IF EXISTS signature_hold_name;
ALTER TABLE signature ADD CONSTRAINT signature_hold_name CHECK
  (hold IN ('made_safe', 'setup_accepted', 'decision_made', 'fit_accepted'));

CREATE TABLE IF NOT EXISTS walk_finding (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  kind VARCHAR(20) NOT NULL,
  said VARCHAR(500) NOT NULL,
  place VARCHAR(200) NOT NULL,
  code VARCHAR(40) COLLATE utf8mb4_bin NULL,
  x DOUBLE NULL,
  y DOUBLE NULL,
  left_mm DOUBLE NULL,
  right_mm DOUBLE NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT walk_finding_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT walk_finding_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT walk_finding_kind CHECK (kind IN ('gap', 'split_arm', 'kink', 'buckle', 'crack', 'torn_seam', 'earlier_repair', 'rust',
    'witness_mark', 'misfit', 'mechanical', 'plate', 'other')),
  CONSTRAINT walk_finding_place CHECK ((x IS NULL) = (y IS NULL))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS walk_taken_back (
  finding_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT walk_taken_back_finding FOREIGN KEY (finding_id) REFERENCES walk_finding (id),
  CONSTRAINT walk_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS line_check (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  item VARCHAR(40) NOT NULL,
  answer VARCHAR(12) NOT NULL,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT line_check_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT line_check_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT line_check_answer CHECK (answer IN ('sound', 'hurt', 'absent', 'open'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS worth (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  value_cents BIGINT NOT NULL,
  cost_cents BIGINT NOT NULL,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT worth_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT worth_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT worth_not_negative CHECK (value_cents >= 0 AND cost_cents >= 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS photo (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  about VARCHAR(20) NOT NULL,
  about_id BIGINT NULL,
  name VARCHAR(200) NOT NULL,
  words VARCHAR(500) NOT NULL,
  width INT NOT NULL,
  height INT NOT NULL,
  sha256 CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  picture LONGBLOB NOT NULL,
  thumbnail MEDIUMBLOB NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT photo_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT photo_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT photo_about CHECK (about IN ('job', 'walk', 'member', 'supplement', 'part'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS settlement (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  finding VARCHAR(400) COLLATE utf8mb4_bin NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT settlement_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT settlement_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS member_seen (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  variant VARCHAR(200) NOT NULL,
  member VARCHAR(120) NOT NULL,
  layer VARCHAR(60) NOT NULL,
  material VARCHAR(20) NOT NULL,
  role VARCHAR(20) NOT NULL,
  signs LONGTEXT NOT NULL,
  straighten BOOLEAN NULL,
  section BOOLEAN NULL,
  heat BOOLEAN NULL,
  source VARCHAR(200) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT member_seen_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT member_seen_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT member_seen_signs CHECK (JSON_VALID(signs)),
  INDEX member_seen_variant (variant, member, layer)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS member_decision (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  seen_id BIGINT NOT NULL,
  decision VARCHAR(30) NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  gives_up VARCHAR(2000) NOT NULL,
  remains VARCHAR(2000) NOT NULL,
  consent VARCHAR(200) NOT NULL,
  first VARCHAR(500) NOT NULL,
  hours DOUBLE NULL,
  donor VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT member_decision_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT member_decision_seen FOREIGN KEY (seen_id) REFERENCES member_seen (id),
  CONSTRAINT member_decision_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT member_decision_what CHECK (decision IN ('keep', 'straighten', 'section', 'replace_at_seams', 'inspect', 'try',
    'straighten_then_replace', 'leave')),
  CONSTRAINT member_decision_hours CHECK (hours IS NULL OR hours >= 0)
) ENGINE = InnoDB;
