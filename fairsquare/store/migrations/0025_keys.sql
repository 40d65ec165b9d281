-- The keys with which this shop signs its records, and those of other shops that a person accepted. What signs is kept apart and
-- leaves in no backup: an installation that was brought back makes a key of its own and still knows those before it.

CREATE TABLE IF NOT EXISTS shop_key (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  public_key BINARY(32) NOT NULL,
  in_force TINYINT NULL,
  person_id BIGINT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT shop_key_public UNIQUE (public_key),
  CONSTRAINT shop_key_one_in_force UNIQUE (in_force),
  CONSTRAINT shop_key_in_force_or_null CHECK (in_force = 1),
  CONSTRAINT shop_key_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS shop_key_secret (
  key_id BIGINT NOT NULL PRIMARY KEY,
  private_key BINARY(32) NOT NULL,
  CONSTRAINT shop_key_secret_key FOREIGN KEY (key_id) REFERENCES shop_key (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS other_key (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  fingerprint CHAR(32) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  shop VARCHAR(200) NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  taken_back_by BIGINT NULL,
  taken_back_at DATETIME(6) NULL,
  CONSTRAINT other_key_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT other_key_taken_back FOREIGN KEY (taken_back_by) REFERENCES person (id),
  KEY other_key_fingerprint (fingerprint)
) ENGINE = InnoDB;
