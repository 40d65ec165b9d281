"""Invented vehicles, and what stands in for real ones and their instruments: processes that speak the public API, and practice."""
