-- Datum sheets. A sheet is never changed: what is accepted is a new version. Lengths in mm, with the text as typed.

CREATE TABLE IF NOT EXISTS sheet (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  job_id BIGINT NOT NULL,
  version INT NOT NULL,
  name VARCHAR(200) NOT NULL,
  construction VARCHAR(20) NOT NULL,
  tolerance_mm DOUBLE NOT NULL,
  build_sigma_mm DOUBLE NOT NULL,
  source VARCHAR(200) NOT NULL,
  accepted_by BIGINT NOT NULL,
  accepted_at DATETIME(6) NOT NULL,
  CONSTRAINT sheet_version UNIQUE (job_id, version),
  CONSTRAINT sheet_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT sheet_person FOREIGN KEY (accepted_by) REFERENCES person (id),
  CONSTRAINT sheet_tolerance CHECK (tolerance_mm >= 0 AND build_sigma_mm >= 0)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS sheet_point (
  sheet_id BIGINT NOT NULL,
  place INT NOT NULL,
  code VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  name VARCHAR(200) NULL,
  x DOUBLE NOT NULL,
  y DOUBLE NOT NULL,
  z DOUBLE NOT NULL,
  x_said VARCHAR(200) NOT NULL,
  y_said VARCHAR(200) NOT NULL,
  z_said VARCHAR(200) NOT NULL,
  tolerance_x DOUBLE NULL,
  tolerance_y DOUBLE NULL,
  tolerance_z DOUBLE NULL,
  sigma_x DOUBLE NULL,
  sigma_y DOUBLE NULL,
  sigma_z DOUBLE NULL,
  reference BOOLEAN NOT NULL,
  asymmetric BOOLEAN NOT NULL,
  member VARCHAR(80) NULL,
  partner VARCHAR(40) COLLATE utf8mb4_bin NULL,
  feature VARCHAR(10) NULL,
  PRIMARY KEY (sheet_id, place),
  CONSTRAINT sheet_point_code UNIQUE (sheet_id, code),
  CONSTRAINT sheet_point_sheet FOREIGN KEY (sheet_id) REFERENCES sheet (id)
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS sheet_span (
  sheet_id BIGINT NOT NULL,
  place INT NOT NULL,
  a VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  b VARCHAR(40) COLLATE utf8mb4_bin NOT NULL,
  mode VARCHAR(20) NOT NULL,
  mm DOUBLE NOT NULL,
  tolerance_mm DOUBLE NULL,
  PRIMARY KEY (sheet_id, place),
  CONSTRAINT sheet_span_sheet FOREIGN KEY (sheet_id) REFERENCES sheet (id),
  CONSTRAINT sheet_span_mode CHECK (mode IN ('point_to_point', 'datum_parallel')),
  CONSTRAINT sheet_span_mm CHECK (mm > 0)
) ENGINE = InnoDB;
