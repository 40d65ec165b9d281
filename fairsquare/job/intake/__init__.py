"""Taking a vehicle in: the walk-round, parts counted off, supplements."""
