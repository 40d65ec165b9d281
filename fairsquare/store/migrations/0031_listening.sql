-- Where servers listen that have pages which want to hear of what others record: they are told there at once.

CREATE TABLE IF NOT EXISTS listening (
  name CHAR(16) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  machine VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  host VARCHAR(64) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  port INT NOT NULL,
  seen_at DATETIME(6) NOT NULL
) ENGINE = InnoDB;
