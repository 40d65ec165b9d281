-- How a vehicle stands on its wheels, axle by axle. Rows are appended and never changed.

CREATE TABLE IF NOT EXISTS stance (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  axle VARCHAR(10) NOT NULL,
  left_mm DOUBLE NOT NULL,
  right_mm DOUBLE NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT stance_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT stance_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT stance_axle CHECK (axle IN ('front', 'rear'))
) ENGINE = InnoDB;
