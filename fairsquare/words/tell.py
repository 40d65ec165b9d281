"""Everything that a rule says, told to one reader: the words of all stations, each in its module, in one table."""

from fairsquare.core.errors import FairSquareError
from fairsquare.core.gathered import modules
from fairsquare.core.said import Said
from fairsquare.words.lengths import in_units
from fairsquare.words.said import METRIC, Reader, Table, filled

TABLE: Table = {kind: words for _, table in modules("fairsquare.words", "WORDS") for kind, words in table.items()}
"""What each kind is called; a kind that is missing here fails a test, and is told by its code."""


def tell(said: Said | str | None, reader: Reader = METRIC) -> str:
    """Return a code with its values as a sentence for a reader; what is words already, or nothing, as it is."""
    if said is None or isinstance(said, str):
        return said or ""
    words = TABLE.get(said.kind)
    if words is None:
        return said.kind.replace("_", " ").replace(".", ": ")
    if isinstance(words, str):
        return filled(words, said.values, reader, tell)
    told = words(said.values, reader)
    return filled(told, said.values, reader, tell)


def fault_told(fault: FairSquareError, reader: Reader) -> FairSquareError:
    """Return a fault with its title in the reader's units."""
    fault.title = tell(fault.said, reader) if fault.said is not None else in_units(fault.title, reader.units)
    return fault
