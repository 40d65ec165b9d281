-- Fit, bond, weld, prove, hand over: more kinds of moves, gaps on the rack and on the wheels, what is planned of fit, seams and
-- bonding (the last version counts), what was done of it, clocks, and links to records. Rows are appended and never changed.

ALTER TABLE movement DROP CONSTRAINT IF EXISTS movement_what_moved, DROP CONSTRAINT IF EXISTS movement_what_known;
ALTER TABLE movement ADD CONSTRAINT movement_what_known CHECK (what IN (
  'vehicle', 'bench', 'bridge', 'structure', 'sight', 'clamp', 'cut', 'heat', 'hinge', 'heavy', 'foam', 'drop', 'lowered',
  'holder', 'welded'));

ALTER TABLE gap_reading ADD COLUMN IF NOT EXISTS stand VARCHAR(8) NOT NULL DEFAULT 'rack';
ALTER TABLE gap_reading DROP CONSTRAINT IF EXISTS gap_reading_stand;
ALTER TABLE gap_reading ADD CONSTRAINT gap_reading_stand CHECK (stand IN ('rack', 'wheels'));

ALTER TABLE signature DROP CONSTRAINT IF EXISTS signature_hold_known, DROP CONSTRAINT IF EXISTS signature_hold_of;
ALTER TABLE signature ADD CONSTRAINT signature_hold_of CHECK
  (hold IN ('made_safe', 'setup_accepted', 'decision_made', 'pulls_done', 'fit_accepted', 'released'));

ALTER TABLE reading DROP CONSTRAINT IF EXISTS reading_purpose, DROP CONSTRAINT IF EXISTS reading_purpose_known;
ALTER TABLE reading ADD CONSTRAINT reading_purpose_known CHECK (purpose IN ('reference', 'point', 'watch'));
ALTER TABLE instrument_order DROP CONSTRAINT IF EXISTS instrument_order_purpose, DROP CONSTRAINT IF EXISTS instrument_order_for;
ALTER TABLE instrument_order ADD CONSTRAINT instrument_order_for CHECK (purpose IN ('reference', 'point', 'watch'));

CREATE TABLE IF NOT EXISTS job_said (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  topic VARCHAR(8) NOT NULL,
  subject INT NOT NULL,
  version INT NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT job_said_version UNIQUE (job_id, topic, subject, version),
  CONSTRAINT job_said_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT job_said_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT job_said_topic CHECK (topic IN ('fit', 'seam', 'bond')),
  CONSTRAINT job_said_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS job_event (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  kind VARCHAR(12) NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY job_event_kind (kind, id),
  CONSTRAINT job_event_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT job_event_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT job_event_kind CHECK (kind IN ('hung', 'hinge', 'opening', 'fixture', 'coupon', 'weld', 'finish', 'finished', 'outside',
    'advice', 'left_out')),
  CONSTRAINT job_event_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS job_event_taken_back (
  event_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT job_event_taken_back_of FOREIGN KEY (event_id) REFERENCES job_event (id),
  CONSTRAINT job_event_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS clock (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  kind VARCHAR(8) NOT NULL,
  product VARCHAR(40) NOT NULL,
  label VARCHAR(120) NOT NULL,
  minutes DOUBLE NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY clock_at (at),
  CONSTRAINT clock_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT clock_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT clock_kind CHECK (kind IN ('open', 'cure', 'stop', 'other')),
  CONSTRAINT clock_minutes CHECK (minutes > 0 AND minutes <= 20160)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS clock_ended (
  clock_id BIGINT NOT NULL PRIMARY KEY,
  words VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT clock_ended_of FOREIGN KEY (clock_id) REFERENCES clock (id),
  CONSTRAINT clock_ended_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS record_link (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  sha256 CHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  code_sha256 BINARY(32) NOT NULL,
  audience VARCHAR(10) NOT NULL,
  named VARCHAR(120) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT record_link_code UNIQUE (code_sha256),
  CONSTRAINT record_link_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT record_link_audience CHECK (audience IN ('owner', 'payer', 'inspector'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS record_link_withdrawn (
  link_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT record_link_withdrawn_of FOREIGN KEY (link_id) REFERENCES record_link (id),
  CONSTRAINT record_link_withdrawn_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

ALTER TABLE photo DROP CONSTRAINT IF EXISTS photo_about;
ALTER TABLE photo ADD CONSTRAINT photo_about CHECK
  (about IN ('job', 'walk', 'member', 'supplement', 'part', 'section', 'done'));
