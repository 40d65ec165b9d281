"""Sentences: one module a station, from codes and values to words in the reader's length unit and time zone. Decides nothing."""
