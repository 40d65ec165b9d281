-- Instruments and reference bars among the tools; what each tool was calibrated and checked to. Rows are appended and never changed.

ALTER TABLE tool ADD COLUMN IF NOT EXISTS length_mm DOUBLE NULL, DROP CONSTRAINT IF EXISTS tool_kind;
ALTER TABLE tool ADD CONSTRAINT tool_kind CHECK
  (kind IN ('instrument', 'tape', 'tram', 'gauges', 'line', 'level', 'square', 'bar'));
ALTER TABLE tool DROP CONSTRAINT IF EXISTS tool_bar;
ALTER TABLE tool ADD CONSTRAINT tool_bar CHECK (kind <> 'bar' OR length_mm > 0);

CREATE TABLE IF NOT EXISTS tool_event (
  id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  tool_id BIGINT NOT NULL,
  kind VARCHAR(12) NOT NULL,
  body LONGTEXT NOT NULL,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT tool_event_tool FOREIGN KEY (tool_id) REFERENCES tool (id),
  CONSTRAINT tool_event_person FOREIGN KEY (person_id) REFERENCES person (id),
  CONSTRAINT tool_event_kind CHECK (kind IN ('calibration', 'check')),
  CONSTRAINT tool_event_body CHECK (JSON_VALID(body))
) ENGINE = InnoDB;

CREATE TABLE IF NOT EXISTS tool_event_taken_back (
  event_id BIGINT NOT NULL PRIMARY KEY,
  person_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  CONSTRAINT tool_event_taken_back_event FOREIGN KEY (event_id) REFERENCES tool_event (id),
  CONSTRAINT tool_event_taken_back_person FOREIGN KEY (person_id) REFERENCES person (id)
) ENGINE = InnoDB;
