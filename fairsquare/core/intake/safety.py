"""What makes a vehicle safe to work on. Common practice, no source: the maker's procedure and local law come first."""

from fairsquare.core.model import Model


class SafetyItem(Model):
    """One thing to do, or to find absent, before anyone works on the vehicle.

    What only a qualified person may do says which paper that person has: its number is recorded with the name.
    """

    key: str
    title: str
    caution: str
    qualified: str | None = None


SAFETY_ITEMS: tuple[SafetyItem, ...] = (
    SafetyItem(key="battery", title="12 V battery off", caution="Earth lead first; keep it from springing back."),
    SafetyItem(
        key="restraints",
        title="Restraint system discharged and disabled",
        caution="Airbags and belt tensioners: the maker's procedure, by qualified people only.",
    ),
    SafetyItem(
        key="high_voltage",
        title="High voltage isolated and checked",
        caution="By a person qualified for it, who measures that it is dead. Never by anyone else.",
        qualified="qualification",
    ),
    SafetyItem(
        key="refrigerant",
        title="Refrigerant recovered",
        caution="By a licensed person with a recovery unit; never into the air.",
        qualified="licence",
    ),
    SafetyItem(
        key="fuel",
        title="Fuel dealt with",
        caution="No leak, lines capped, tank away from heat; fire watch and blankets ready.",
    ),
    SafetyItem(
        key="edges",
        title="Sharp edges and loose parts dealt with",
        caution="Glass, torn sheet, parts that may fall: taped, taken off or tied.",
    ),
    SafetyItem(
        key="standing",
        title="Vehicle stands so that it cannot roll or fall",
        caution="On stands or the rack, wheels blocked, nobody under it on a jack alone.",
    ),
)
SAFETY_BY_KEY = {item.key: item for item in SAFETY_ITEMS}
SAFETY_KEYS = frozenset(item.key for item in SAFETY_ITEMS)
