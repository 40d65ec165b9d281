"""Metals that lie on one another."""

from fairsquare.core.damage.decide import Material

_LIGHT = frozenset({"aluminium", "casting"})


def metals_touch(a: Material, b: Material) -> str:
    """Return the caution for two metals that touch: aluminium on steel corrodes where it is wet. Empty where nothing is to be said.

    The galvanic series of metals in sea water, as handbooks have it, from memory; what is put between is the maker's to say.
    """
    if "composite" in (a, b):
        return "A composite with carbon in it eats the metal that it touches: keep them apart as the maker has it."
    if (a in _LIGHT) == (b in _LIGHT):
        return ""
    return (
        "Aluminium on steel: where water gets between, the aluminium is eaten. Keep them apart (primer on both, adhesive or tape "
        "between, coated rivets), and never weld one to the other."
    )
