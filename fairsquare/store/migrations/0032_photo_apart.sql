-- The bytes of photos that come with a whole job, kept one by one before the job itself, so that no transaction is as large as all of
-- them: a cluster certifies a transaction whole, and all its nodes wait for the largest. What no photo names is forgotten after a day.

CREATE TABLE IF NOT EXISTS photo_apart (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  claim CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  place INT NOT NULL,
  picture LONGBLOB NOT NULL,
  as_sent LONGBLOB NULL,
  at DATETIME(6) NOT NULL,
  UNIQUE KEY by_claim (claim, place),
  KEY by_age (at)
) ENGINE = InnoDB;

ALTER TABLE photo ADD COLUMN IF NOT EXISTS apart_id BIGINT NULL;
CREATE INDEX IF NOT EXISTS photo_by_apart ON photo (apart_id);
