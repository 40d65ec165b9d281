-- What the shop says of itself (the last version counts), and the plans of its day as they were made. Rows are appended.

CREATE TABLE IF NOT EXISTS shop_said (
  version INT NOT NULL PRIMARY KEY,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT shop_said_by FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT shop_said_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS day_plan (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT day_plan_by FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT day_plan_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;
