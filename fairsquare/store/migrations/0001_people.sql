-- Who may sign in, who is signed in, and what was done once.

CREATE TABLE IF NOT EXISTS person (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(80) NOT NULL,
  full_name VARCHAR(120) NOT NULL,
  role VARCHAR(20) NOT NULL,
  password_hash VARCHAR(255) NOT NULL,
  demo BOOLEAN NOT NULL DEFAULT FALSE,
  active BOOLEAN NOT NULL DEFAULT TRUE,
  created_at DATETIME(6) NOT NULL,
  CONSTRAINT person_name UNIQUE (name),
  CONSTRAINT person_role CHECK (role IN ('technician', 'lead', 'estimator', 'apprentice'))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS session (
  token_sha256 BINARY(32) NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  csrf CHAR(43) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  kind VARCHAR(10) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  CONSTRAINT session_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT session_kind CHECK (kind IN ('page', 'token')),
  INDEX session_expires (expires_at)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS sign_in_attempt (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(80) NOT NULL,
  address VARCHAR(64) NOT NULL,
  succeeded BOOLEAN NOT NULL,
  at DATETIME(6) NOT NULL,
  INDEX sign_in_attempt_name (name, at),
  INDEX sign_in_attempt_address (address, at)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS request_key (
  request_key VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  purpose VARCHAR(80) NOT NULL,
  answer LONGTEXT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT request_key_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT request_key_answer CHECK (JSON_VALID(answer))
) ENGINE = InnoDB;
