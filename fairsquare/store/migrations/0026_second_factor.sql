-- Sign-ins that their owner sees and ends, tokens of the API with names, and a second factor: a code from a telephone (TOTP).

ALTER TABLE session
  ADD COLUMN IF NOT EXISTS id BIGINT NOT NULL AUTO_INCREMENT UNIQUE,
  ADD COLUMN IF NOT EXISTS name VARCHAR(120) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS address VARCHAR(64) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS browser VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN IF NOT EXISTS seen_at DATETIME(6) NULL,
  DROP CONSTRAINT IF EXISTS session_kind;

ALTER TABLE session ADD CONSTRAINT session_kind CHECK (kind IN ('page', 'token', 'half'));

ALTER TABLE sign_in_attempt ADD COLUMN IF NOT EXISTS second BOOLEAN NOT NULL DEFAULT FALSE;

CREATE TABLE IF NOT EXISTS person_totp (
  person_id BIGINT NOT NULL PRIMARY KEY,
  secret VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  confirmed_at DATETIME(6) NULL,
  last_step BIGINT NOT NULL DEFAULT 0,
  CONSTRAINT person_totp_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS recovery_code (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  person_id BIGINT NOT NULL,
  code_sha256 BINARY(32) NOT NULL,
  used_at DATETIME(6) NULL,
  CONSTRAINT recovery_code_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT recovery_code_once UNIQUE (person_id, code_sha256)
) ENGINE = InnoDB;
