-- How each job went, as it was when it was released: worked out then, so that the shop's past need not be worked out anew.

CREATE TABLE IF NOT EXISTS job_went (
  signature_id BIGINT NOT NULL PRIMARY KEY,
  job_id BIGINT NOT NULL,
  body LONGTEXT NOT NULL,
  CONSTRAINT job_went_signature FOREIGN KEY (signature_id) REFERENCES signature (id),
  CONSTRAINT job_went_job FOREIGN KEY (job_id) REFERENCES job (id),
  CONSTRAINT job_went_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;
