"""`./run drills [NAME…]`: hold the drills, or some of them, and print what each showed; the exit status says whether all held."""

import sys
import time
from collections.abc import Iterator, Sequence

from drills.ground import Ground, Outcome, hold_drill
from drills.grounds import GROUNDS, MakeGround, NotHere
from drills.scenes import Scene
from fairsquare.service.server import set_up_logs

_COLUMNS = (
    ("drill", 24),
    ("confirmed", 9),
    ("found", 7),
    ("doubled", 7),
    ("lost", 5),
    ("disordered", 10),
    ("records", 8),
    ("longest wait", 12),
    ("page away", 9),
)


def main(wanted: Sequence[str]) -> int:
    """Hold the drills whose names have one of the words in them, or all; return 1 where one did not hold, or could not be held."""
    every = [scene.name for _, scenes in GROUNDS for scene in scenes]
    chosen = [name for name in every if not wanted or any(word in name for word in wanted)]
    if not chosen:
        sys.stderr.write(f"There is no such drill: {', '.join(every)}.\n")
        return 2
    set_up_logs("ERROR")
    began, bad = time.monotonic(), 0
    sys.stdout.write("  ".join(name.ljust(width) for name, width in _COLUMNS) + "  what a person saw\n")
    for make, scenes in GROUNDS:
        here = [scene for scene in scenes if scene.name in chosen]
        try:
            bad += sum(not tell(scene, outcome) for scene, outcome in held(make, here)) if here else 0
        except NotHere as fault:
            bad += len(here)
            sys.stdout.write(f"{', '.join(scene.name for scene in here)}: not held: {fault}\n")
    sys.stdout.write(f"{len(chosen) - bad} of {len(chosen)} held, in {(time.monotonic() - began) / 60:.0f} minutes\n")
    return int(bool(bad))


def held(make: MakeGround, scenes: Sequence[Scene]) -> Iterator[tuple[Scene, Outcome]]:
    """Hold drills one after the other on one ground, and yield what each showed."""
    with make() as at:
        at.start_servers()
        for scene in scenes:
            yield scene, hold(at, scene)


def hold(at: Ground, scene: Scene) -> Outcome:
    """Hold one drill."""
    with scene.around(at) as addresses:
        return hold_drill(at, scene.name, scene.happens, scene.crew, addresses)


def tell(scene: Scene, outcome: Outcome) -> bool:
    """Print what a drill showed, and say whether it held."""
    good = outcome.good and outcome.found.longest_s <= scene.most_wait_s
    sys.stdout.write(line(scene.name, outcome) + ("" if good else "   NOT GOOD") + "\n")
    for remark in (*outcome.remarks, *sorted(set(outcome.refused))[:5]):
        sys.stdout.write(f"    {remark}\n")
    sys.stdout.flush()
    return good


def line(name: str, outcome: Outcome) -> str:
    """Return an outcome as a line of the table."""
    of = outcome.found
    cells = (
        name,
        of.acknowledged,
        of.found,
        of.doubled,
        of.lost,
        of.out_of_order,
        f"{outcome.records} {'good' if outcome.records_good else 'BAD'}",
        f"{of.longest_s:.1f} s",
        f"{outcome.page_away_s:.1f} s",
    )
    saw = ", ".join(f"{words} ({many})" for words, many in outcome.saw.most_common(4)) or "nothing but the pause"
    return "  ".join(str(cell).ljust(width) for cell, (_, width) in zip(cells, _COLUMNS, strict=True)) + f"  {saw}"


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
