"""The dry fit: hanging a panel by its hinges, and whether an opening is square."""
