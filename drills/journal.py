"""What each hand wrote down for itself, and what of it stands at the nodes: every confirmed deed once, and in order."""

import json
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple


class Journal:
    """A hand's own journal: what it is about to send, and then what was confirmed, each line on the disk before it goes on."""

    def __init__(self, file: Path) -> None:
        self._file = file.open("a", encoding="utf-8")

    def sends(self, deed: int) -> None:
        """Write down that a deed is about to be sent."""
        self._write({"deed": deed})

    def confirmed(self, deed: int, kept: int, took_s: float) -> None:
        """Write down under which id a deed was confirmed, and how long that took."""
        self._write({"deed": deed, "kept": kept, "took_s": round(took_s, 3)})

    def _write(self, line: dict[str, float]) -> None:
        self._file.write(json.dumps(line) + "\n")
        self._file.flush()

    def close(self) -> None:
        """End it."""
        self._file.close()


class Told(NamedTuple):
    """What a journal tells: the deeds sent in order, the ids of those that were confirmed, and the longest that one took."""

    sent: tuple[int, ...]
    kept: dict[int, int]
    longest_s: float


def told(file: Path) -> Told:
    """Read a journal; the last line may have been cut off."""
    sent: list[int] = []
    kept: dict[int, int] = {}
    longest = 0.0
    for line in file.read_text(encoding="utf-8").splitlines():
        try:
            entry = json.loads(line)
        except ValueError:
            continue
        if "kept" in entry:
            kept[entry["deed"]] = entry["kept"]
            longest = max(longest, entry["took_s"])
        else:
            sent.append(entry["deed"])
    return Told(tuple(sent), kept, longest)


class Row(NamedTuple):
    """A deed as a node has it."""

    id: int
    hand: str
    deed: int


@dataclass
class Found:
    """What came of all journals at the nodes."""

    acknowledged: int = 0
    found: int = 0
    doubled: int = 0
    lost: int = 0
    out_of_order: int = 0
    unlike: int = 0
    longest_s: float = 0.0
    words: list[str] = field(default_factory=list)

    @property
    def good(self) -> bool:
        """Whether every confirmed deed is at every node once, in order, and all nodes have the same."""
        return bool(self.acknowledged) and not (self.doubled or self.lost or self.out_of_order or self.unlike)


def found(journals: Mapping[str, Told], nodes: Sequence[Iterable[Row]]) -> Found:
    """Compare what hands have in their journals with the rows of every node."""
    result = Found(
        acknowledged=sum(len(own.kept) for own in journals.values()),
        longest_s=max((own.longest_s for own in journals.values()), default=0.0),
    )
    every = [sorted(rows) for rows in nodes]
    result.unlike = sum(rows != every[0] for rows in every)
    confirmed = {(hand, deed): kept for hand, own in journals.items() for deed, kept in own.kept.items()}
    at_all = set(confirmed)
    for number, rows in enumerate(every, start=1):
        here = {(row.hand, row.deed): row.id for row in rows}
        lost = {deed for deed, kept in confirmed.items() if here.get(deed) != kept}
        at_all -= lost
        doubled = [deed for deed, many in Counter((row.hand, row.deed) for row in rows).items() if many > 1]
        disordered = _disordered(rows)
        result.lost = max(result.lost, len(lost))
        result.doubled = max(result.doubled, len(doubled))
        result.out_of_order = max(result.out_of_order, len(disordered))
        for what, which in (("lost", lost), ("doubled", doubled), ("out of order", disordered)):
            result.words += [f"node {number}: {what}: {', '.join(map(str, sorted(which)[:5]))}"] if which else []
    result.found = len(at_all)
    return result


def _disordered(rows: Iterable[Row]) -> list[tuple[str, int]]:
    """Return the deeds that stand before an earlier one of the same hand."""
    last: dict[str, int] = {}
    disordered = []
    for row in rows:
        if row.deed < last.get(row.hand, 0):
            disordered.append((row.hand, row.deed))
        last[row.hand] = max(row.deed, last.get(row.hand, 0))
    return disordered
