"""The skeleton of a vehicle as an elastic-plastic frame: what a pull does to it, loaded and let go."""
