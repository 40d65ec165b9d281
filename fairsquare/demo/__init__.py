"""The demo's scenario: the workshop of an island ferry line, its people, its vehicles and what happened to them. All invented."""
