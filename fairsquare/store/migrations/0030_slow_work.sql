-- Slow work that is made once, whichever server is asked: who makes it holds the claim for as long as the lease is renewed.

CREATE TABLE IF NOT EXISTS slow_work (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  kind VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  asked_by VARCHAR(120) NOT NULL,
  asked TEXT NULL,
  holder CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  claim CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  lease_until DATETIME(6) NOT NULL,
  stopped TINYINT NOT NULL DEFAULT 0,
  tried INT NOT NULL DEFAULT 0,
  so_far LONGTEXT NULL,
  ended TINYINT NOT NULL DEFAULT 0,
  result LONGBLOB NULL,
  fault TEXT NULL,
  at DATETIME(6) NOT NULL,
  UNIQUE KEY by_name (kind, name),
  UNIQUE KEY by_claim (claim),
  KEY unfinished (kind, ended, lease_until),
  KEY by_age (at)
) ENGINE = InnoDB;
