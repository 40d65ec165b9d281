-- Pulling: the rig that the shop owns, how a vehicle is held and pulled, the plan, and what was done of it. Rows are appended and
-- never changed; a setting or a plan that is kept anew is the next version.

CREATE TABLE IF NOT EXISTS rig_item (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  kind VARCHAR(12) NOT NULL,
  capacity_n DOUBLE NULL,
  area_mm2 DOUBLE NULL,
  made VARCHAR(8) NOT NULL,
  words VARCHAR(300) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT rig_item_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT rig_item_kind CHECK (kind IN ('tower', 'post', 'ram', 'pump', 'chain', 'clamp', 'hook', 'tab', 'stand', 'strap', 'puller', 'jack')),
  CONSTRAINT rig_item_made CHECK (made IN ('maker', 'home')),
  CONSTRAINT rig_item_sizes CHECK ((capacity_n IS NULL OR capacity_n > 0) AND (area_mm2 IS NULL OR area_mm2 > 0))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS rig_look (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  item_id BIGINT NOT NULL,
  found VARCHAR(8) NOT NULL,
  words VARCHAR(300) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT rig_look_item FOREIGN KEY (item_id) REFERENCES rig_item (id),
  CONSTRAINT rig_look_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT rig_look_found CHECK (found IN ('sound', 'hurt', 'retired'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS pull_setting (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  version INT NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT pull_setting_version UNIQUE (job_id, version),
  CONSTRAINT pull_setting_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT pull_setting_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT pull_setting_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS pull_plan (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  version INT NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT pull_plan_version UNIQUE (job_id, version),
  CONSTRAINT pull_plan_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT pull_plan_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT pull_plan_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS pull_event (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  plan_version INT NOT NULL,
  pull INT NOT NULL,
  state VARCHAR(12) NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT pull_event_plan FOREIGN KEY (job_id, plan_version) REFERENCES pull_plan (job_id, version),
  CONSTRAINT pull_event_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT pull_event_state CHECK (
    state IN ('cautions', 'test', 'look', 'pulling', 'hold', 'relieve', 'let_go', 'read_free', 'stopped', 'ended')
  ),
  CONSTRAINT pull_event_body CHECK (JSON_VALID(body)),
  CONSTRAINT pull_event_pull CHECK (pull >= 1)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS load_reading (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  tower VARCHAR(40) NOT NULL,
  force_n DOUBLE NULL,
  pressure_mpa DOUBLE NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  INDEX load_reading_newest (job_id, tower, at),
  CONSTRAINT load_reading_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT load_reading_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT load_reading_what CHECK (
    (force_n IS NULL) <> (pressure_mpa IS NULL) AND COALESCE(force_n, pressure_mpa) >= 0
  )
) ENGINE = InnoDB;

ALTER TABLE signature DROP CONSTRAINT IF EXISTS signature_hold_name, DROP CONSTRAINT IF EXISTS signature_hold_known;
ALTER TABLE signature ADD CONSTRAINT signature_hold_known CHECK
  (hold IN ('made_safe', 'setup_accepted', 'decision_made', 'pulls_done', 'fit_accepted'));
