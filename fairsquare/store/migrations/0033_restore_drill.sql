-- Backups that were brought back to try them: which, when, and what was found. A backup that was never tried is a hope.

CREATE TABLE IF NOT EXISTS restore_drill (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  file VARCHAR(200) NOT NULL,
  taken_at DATETIME(6) NOT NULL,
  good TINYINT NOT NULL,
  told VARCHAR(300) NOT NULL,
  words TEXT NOT NULL,
  at DATETIME(6) NOT NULL
) ENGINE = InnoDB;
