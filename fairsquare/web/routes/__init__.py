"""One module a station of the work."""
