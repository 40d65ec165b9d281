-- Cutting: the members that are replaced, what was said of each (the last version counts), welds ticked off, cuts made. Rows are
-- appended and never changed. Photos may be of a section; parts may be made in the shop, and name the vehicle that a donor was.

CREATE TABLE IF NOT EXISTS section (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  number INT NOT NULL,
  member VARCHAR(120) NOT NULL,
  how VARCHAR(8) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT section_number UNIQUE (job_id, number),
  CONSTRAINT section_member UNIQUE (job_id, member),
  CONSTRAINT section_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT section_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT section_how CHECK (how IN ('cut', 'seams', 'bolts'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS section_said (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  section_id BIGINT NOT NULL,
  topic VARCHAR(8) NOT NULL,
  version INT NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT section_said_version UNIQUE (section_id, topic, version),
  CONSTRAINT section_said_of FOREIGN KEY (section_id) REFERENCES section (id),
  CONSTRAINT section_said_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT section_said_topic CHECK (topic IN ('strip', 'lines', 'welds')),
  CONSTRAINT section_said_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS weld_tick (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  section_id BIGINT NOT NULL,
  whose VARCHAR(8) NOT NULL,
  weld VARCHAR(40) NOT NULL,
  done BOOLEAN NOT NULL,
  did VARCHAR(500) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY weld_tick_weld (section_id, whose, weld),
  CONSTRAINT weld_tick_of FOREIGN KEY (section_id) REFERENCES section (id),
  CONSTRAINT weld_tick_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT weld_tick_whose CHECK (whose IN ('vehicle', 'donor'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS cut_made (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  section_id BIGINT NOT NULL,
  layer VARCHAR(40) NOT NULL,
  kind VARCHAR(8) NOT NULL,
  at_mm DOUBLE NOT NULL,
  tool VARCHAR(120) NOT NULL,
  words VARCHAR(500) NOT NULL,
  overridden LONGTEXT NOT NULL,
  reason VARCHAR(2000) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT cut_made_of FOREIGN KEY (section_id) REFERENCES section (id),
  CONSTRAINT cut_made_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT cut_made_kind CHECK (kind IN ('access', 'final')),
  CONSTRAINT cut_made_overridden CHECK (JSON_VALID(overridden))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS cut_taken_back (
  cut_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT cut_taken_back_of FOREIGN KEY (cut_id) REFERENCES cut_made (id),
  CONSTRAINT cut_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

ALTER TABLE photo DROP CONSTRAINT IF EXISTS photo_about;
ALTER TABLE photo ADD CONSTRAINT photo_about CHECK (about IN ('job', 'walk', 'member', 'supplement', 'part', 'section'));

ALTER TABLE part ADD COLUMN IF NOT EXISTS identity VARCHAR(120) NOT NULL DEFAULT '';
ALTER TABLE part ADD COLUMN IF NOT EXISTS blank LONGTEXT NULL;
ALTER TABLE part DROP CONSTRAINT IF EXISTS part_origin;
ALTER TABLE part ADD CONSTRAINT part_origin CHECK (origin IN ('new', 'donor', 'made'));
ALTER TABLE part_item DROP CONSTRAINT IF EXISTS part_item_kind;
ALTER TABLE part_item ADD CONSTRAINT part_item_kind CHECK (kind IN ('bracket', 'nut', 'stud', 'hole', 'pad', 'layer', 'comes_off', 'other'));
