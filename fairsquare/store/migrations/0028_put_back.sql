-- The database's clock was put back: by how much, and after which clock of work was started; what ran then counts too little.

CREATE TABLE IF NOT EXISTS put_back (
  id BIGINT NOT NULL PRIMARY KEY AUTO_INCREMENT,
  seconds DOUBLE NOT NULL,
  after_clock BIGINT NOT NULL,
  at DATETIME(6) NOT NULL
) ENGINE = InnoDB;
