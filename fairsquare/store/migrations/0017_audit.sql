-- The audit page reads deeds by time.
ALTER TABLE request_key ADD INDEX IF NOT EXISTS request_key_at (at);
