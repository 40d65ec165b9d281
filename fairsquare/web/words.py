"""The words in which pages say what is kept in short."""

CONSTRUCTIONS = {
    "unibody": "unibody",
    "ladder": "body on ladder frame",
    "truck": "heavy truck frame",
    "aluminium": "aluminium",
    "trailer": "trailer",
}
HIT_WHERE = {
    "unknown": "not known",
    "front": "front",
    "rear": "rear",
    "left": "left side",
    "right": "right side",
    "roof": "roof",
    "underneath": "underneath",
}
HIT_FROM = {
    "": "not known",
    "0": "the front",
    "45": "the front right",
    "90": "the right",
    "135": "the rear right",
    "180": "the rear",
    "225": "the rear left",
    "270": "the left",
    "315": "the front left",
}
HIT_HEIGHT = {"unknown": "not known", "low": "low", "middle": "middle", "high": "high"}
HIT_FORCE = {
    "unknown": "not known",
    "light": "light: it drove on",
    "middling": "middling",
    "hard": "hard: bags went off, or it was towed",
}
HIT_MOVED = {
    "unknown": "not known",
    "stood": "it stood, and stayed where it was",
    "pushed": "it stood, and was pushed away",
    "stopped": "it drove, and was stopped dead",
    "slid": "it slid on, against a kerb or a second thing",
    "spun": "it was spun round",
    "rolled": "it rolled over",
}
MODES = {
    "mash": ("mash", "short", "long"),
    "skew": ("skew", "left fore", "right fore"),
    "sway": ("sway", "left", "right"),
    "spread": ("spread", "apart", "pinched"),
    "rise": ("rise", "high", "low"),
    "twist_deg": ("twist", "left high", "right high"),
}
"""The six modes: name, the word for a positive value, the word for a negative one."""
MATERIALS = {
    "mild": "mild steel",
    "high_strength": "high-strength steel",
    "ultra_high_strength": "ultra-high-strength steel",
    "press_hardened": "press-hardened steel",
    "aluminium": "aluminium",
    "casting": "casting",
    "composite": "composite",
}
SAID_MATERIALS = {"unknown": "not known yet", **MATERIALS}
ROLES = {
    "structural": "structural",
    "crush_zone": "crush zone",
    "closing": "closing panel",
    "sacrificial": "comes off in any case",
}
SIGNS = {
    "bent": "bent",
    "kinked": "kinked",
    "buckled": "buckled",
    "folded": "folded",
    "stretched": "stretched",
    "cracked": "cracked",
    "torn": "torn",
    "seam_torn": "seam torn",
    "rusted_through": "rusted through",
    "thinned_by_rust": "thinned by rust",
    "repaired_before": "repaired before",
    "heat_marked": "marked by heat",
}
YES_NO = {"": "not said", "yes": "allowed", "no": "forbidden"}


_UNDONE = {
    "mash": ("what is short", "what is long"),
    "skew": ("skew: left fore", "skew: right fore"),
    "sway": ("sway to the left", "sway to the right"),
    "spread": ("what is spread apart", "what is pinched"),
    "rise": ("what is high", "what is low"),
    "twist": ("twist: left high", "twist: right high"),
}


def undone_words(mode: str, sense: float) -> str:
    """Return what a pull undoes, with the word for the way in which it was."""
    return _UNDONE[mode][0 if sense >= 0 else 1]


def agree_words(p: float | None) -> str:
    """Return how well readings agree with one another, in words; `p` is the chance of a fit at least as bad."""
    if p is None:
        return "as many as are needed: nothing checks them"
    return "agree well" if p >= 0.3 else "agree" if p >= 0.05 else "agree poorly" if p >= 0.001 else "do not agree"


def way_words(way: tuple[float, float, float]) -> str:
    """Return a direction as it is said: forward, to the left and up, the main part first."""
    names = (("forward", "back"), ("to the left", "to the right"), ("up", "down"))
    parts = sorted(range(3), key=lambda axis: -abs(way[axis]))
    ways = [names[axis][0 if way[axis] > 0 else 1] for axis in parts if abs(way[axis]) > 0.35]
    return " and ".join(ways)


def blow_words(code: str, force: tuple[float, float, float]) -> str:
    """Return where a blow struck, how hard, and which way it went, in words."""
    size = sum(part**2 for part in force) ** 0.5
    x, y, z = (part / size for part in force) if size else (0.0, 0.0, 0.0)
    return f"Struck at {code} with {size / 1000:.0f} kN, going {way_words((x, y, z))}"
