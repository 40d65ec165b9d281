"""Taking a vehicle in: its identity, the hit as declared, and what makes it safe to work on."""
