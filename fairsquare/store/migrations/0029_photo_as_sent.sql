-- Photos that come with another shop's job are made anew for the pages; the bytes whose checksum its record names lie beside.

ALTER TABLE photo ADD COLUMN IF NOT EXISTS as_sent LONGBLOB NULL AFTER picture;
