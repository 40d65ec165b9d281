"""What the workshop of the scenario pulls and holds with."""

RIG: tuple[tuple[str, str, float | None, float | None, str, str], ...] = (
    ("Tower, quay side", "tower", 120_000.0, None, "maker", ""),
    ("Tower, slip side", "tower", 120_000.0, None, "maker", ""),
    ("Floor post", "post", 90_000.0, None, "maker", "bolted to the slab"),
    ("Ram of the quay side tower", "ram", None, 1710.0, "maker", ""),
    ("Ram of the slip side tower", "ram", None, 1710.0, "maker", ""),
    ("Pump for both towers", "pump", None, None, "maker", "70 MPa at most; both rams share its pressure"),
    ("Chain, 13 mm", "chain", 107_000.0, None, "maker", "6 m"),
    ("Chain, 10 mm", "chain", 63_000.0, None, "maker", "4 m"),
    ("Sill clamps, four", "clamp", 120_000.0, None, "maker", "each"),
    ("Flange clamp, wide", "clamp", 90_000.0, None, "maker", ""),
    ("Frame hook", "hook", 90_000.0, None, "maker", ""),
    ("Hook from the old crane", "hook", None, None, "home", "bent and welded here"),
    ("Stands, four", "stand", 50_000.0, None, "maker", "each"),
    ("Jack between two places", "jack", 100_000.0, 1430.0, "maker", "bears on the vehicle itself"),
    ("Frame jack, long", "jack", 300_000.0, 4300.0, "maker", "bears on the vehicle itself, with its two saddles"),
    ("Chain puller", "puller", 100_000.0, 1430.0, "maker", "draws two places of the vehicle together"),
    ("Floor pot", "post", 120_000.0, None, "maker", "let into the slab"),
    ("Gantry over the slip side", "tower", 60_000.0, 1430.0, "maker", "draws upward"),
)
"""Name, kind, capacity in N, ram area in mm², who made it, more."""
