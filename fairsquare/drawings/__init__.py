"""Drawings from core results: pure functions that return SVG. Looks come from the style sheet, by class."""
