-- What was seen at the walk-round binds: the member and layer that a finding is on, where a person said so. A member may be made of
-- nobody knows what, and something that was seen on it may be contradicted, with a reason.

CREATE TABLE IF NOT EXISTS walk_bound (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  finding_id BIGINT NOT NULL,
  member VARCHAR(120) NOT NULL,
  layer VARCHAR(60) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT walk_bound_finding FOREIGN KEY (finding_id) REFERENCES walk_finding (id),
  CONSTRAINT walk_bound_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT walk_bound_member CHECK (member <> '')
) ENGINE = InnoDB;

ALTER TABLE member_seen ADD COLUMN IF NOT EXISTS contradicts VARCHAR(2000) NOT NULL DEFAULT '';
ALTER TABLE walk_taken_back ADD COLUMN IF NOT EXISTS reason VARCHAR(2000) NOT NULL DEFAULT '';

-- Only what was found on the structure opens a decision again; hours that were worked or left out do not.
ALTER TABLE supplement_line ADD COLUMN IF NOT EXISTS structural BOOLEAN NOT NULL DEFAULT TRUE;
