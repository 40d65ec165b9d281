"""JSON under /api/v1: the calculations, and the same deeds as the pages, from the same models."""
