"""The drill map of a job: every weld with what is done to it on each side, in a working order, and what was ticked off."""

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache
from itertools import pairwise
from typing import Literal, NamedTuple

from fairsquare.core.cut.drill import (
    DrillMap,
    OpenMethod,
    ReachBefore,
    RejoinMethod,
    Weld,
    WeldImpossible,
    WeldMapped,
    drill_map,
)
from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import FATES, Fate, SeamSaid, WeldSaid, WeldsSaid
from fairsquare.core.errors import FairSquareError
from fairsquare.core.metals import metals_touch
from fairsquare.core.said import Said, say
from fairsquare.core.same import Same

Mark = Literal["drill", "flat", "grind", "leave", "plug_hole", "never", "rivet", "unbolt", "seam", "cannot"]
MARKS: dict[Mark, str] = {
    "drill": "drill through",
    "flat": "cut flat",
    "grind": "grind",
    "plug_hole": "hole for plug",
    "rivet": "drill the rivet out",
    "unbolt": "undo the bolt",
    "seam": "open the seam",
    "leave": "leave",
    "never": "do not drill",
    "cannot": "cannot be done so",
}
HOLED: frozenset[Mark] = frozenset({"drill", "flat", "plug_hole", "rivet"})
"""What leaves a hole, or the mark of a cutter, at the middle of a weld."""
_OF_METHOD: dict[OpenMethod, Mark] = {"through_drill": "drill", "flat_cutter": "flat", "grind": "grind"}
_ORDER: dict[Mark, int] = {"unbolt": 0, "seam": 1, "rivet": 2, "drill": 3, "plug_hole": 3, "flat": 4, "grind": 5}


class Step(NamedTuple):
    """What is done to one weld on one side. `deep` layers; `parts` that the tool goes through; `never` those it must not touch."""

    weld: str
    mark: Mark
    side: str
    deep: int
    parts: tuple[str, ...]
    never: tuple[str, ...]
    words: str

    @property
    def work(self) -> bool:
        """Whether anything is to be done, and ticked off."""
        return self.mark in _ORDER


class MappedWeld(NamedTuple):
    """A weld, rivet, bolt or seam with its step on the vehicle and on the donor, and how it is joined again."""

    said: WeldSaid | SeamSaid
    vehicle: Step
    donor: Step
    rejoin: Said
    fault: str

    def step(self, whose: Whose) -> Step:
        """The step on one side."""
        return self.vehicle if whose == "vehicle" else self.donor


def mapped_welds(said: WeldsSaid) -> tuple[MappedWeld, ...]:
    """Return every weld, rivet, bolt and seam with what is done to it, in the order in which they were given."""
    return _mapped_welds(Same(said))


@lru_cache(maxsize=64)
def _mapped_welds(held: Same[WeldsSaid]) -> tuple[MappedWeld, ...]:
    welds_said = held.held
    spots = _spots(welds_said)
    fates = {part.id: part.fate for part in welds_said.parts}
    welds = [
        _of_spot(weld, spots[weld.id], fates, welds_said) if weld.kind == "spot" else _undone(weld, fates, welds_said)
        for weld in welds_said.welds
    ]
    return (*welds, *(_of_seam(seam, fates, welds_said) for seam in welds_said.seams))


def _spots(said: WeldsSaid) -> dict[str, WeldMapped | WeldImpossible]:
    parts = {part.id: part for part in said.parts}
    spots = [weld for weld in said.welds if weld.kind == "spot"]
    try:
        asked = DrillMap(
            donor=said.donor,
            welds=tuple(
                Weld(
                    id=weld.id,
                    stack=tuple(parts[name].layer for name in weld.stack),
                    reach_before=ReachBefore(vehicle=weld.vehicle, donor=weld.donor),
                    reach_after=weld.after,
                    squeeze=weld.squeeze,
                )
                for weld in spots
            ),
        )
        return {weld.id: weld for weld in drill_map(asked).welds}
    except (FairSquareError, KeyError):
        return {}


def working_order(welds: Iterable[MappedWeld], whose: Whose) -> tuple[MappedWeld, ...]:
    """Return what is to be done on a side in a working order: one flange and side after the other, no tool changed twice there.

    Common practice, no source: bolts first, seams and rivets, then drill, cutter and grinder, each along the flange.
    """
    own = [weld for weld in welds if weld.step(whose).work]
    flanges = list(dict.fromkeys(weld.said.flange for weld in own))

    def key(weld: MappedWeld) -> tuple[int, int, int, float]:
        step = weld.step(whose)
        at = weld.said.at_mm if isinstance(weld.said, WeldSaid) else weld.said.start
        return flanges.index(weld.said.flange), step.side == "bottom", _ORDER[step.mark], at

    return tuple(sorted(own, key=key))


def _of_spot(
    weld: WeldSaid, found: WeldMapped | WeldImpossible | None, fates: Mapping[str, Fate], said: WeldsSaid
) -> MappedWeld:
    if found is None or isinstance(found, WeldImpossible):
        words = found.words if found else "The stacks cannot be worked out: look at the parts and the welds."
        cannot = Step(weld.id, "cannot", "", 0, (), found.in_the_way if found else (), words)
        return MappedWeld(weld, cannot, cannot, say("rejoin.unknown"), words)
    ours = frozenset(name for name in weld.stack if fates[name] != "donor")
    rejoin = _rejoined_by([(rule.method, rule.side) for rule in found.rejoin], said)
    vehicle = _step(weld, found, "vehicle", [n for n in found.do_not_drill if n in ours], said)
    theirs = [name for name in found.do_not_drill if name not in ours]
    return MappedWeld(weld, vehicle, _step(weld, found, "donor", theirs, said), rejoin, "")


def _step(weld: WeldSaid, found: WeldMapped, whose: Whose, never: Sequence[str], said: WeldsSaid) -> Step:
    cuts = found.vehicle if whose == "vehicle" else found.donor
    if not cuts:
        mark: Mark = "never" if never and found.rejoin else "leave"
        words = f"do not drill {' or '.join(never)}" if mark == "never" else "leave it"
        return Step(weld.id, mark, "", 0, (), tuple(never), words)
    first = cuts[0]
    own: Mark = _OF_METHOD[first.method]
    if whose == "donor" and said.donor == "new":
        own = "plug_hole"
    told = []
    for cut in cuts:
        deep = len(cut.layers)
        how = {
            "through_drill": f"drill through {' and '.join(cut.layers)}",
            "flat_cutter": f"cut flat from the {cut.side}, {deep} layer{'s' if deep > 1 else ''} deep: {' and '.join(cut.layers)}",
            "grind": f"grind away {' and '.join(cut.layers)} from the {cut.side}",
        }[cut.method]
        told.append(f"hole for the plug in {' and '.join(cut.layers)}" if own == "plug_hole" else how)
    through = tuple(name for cut in cuts for name in cut.layers)
    return Step(weld.id, own, first.side, len(first.layers), through, tuple(never), "; ".join(told))


def _rejoined_by(rejoin: Sequence[tuple[RejoinMethod, str]], said: WeldsSaid) -> Said:
    if not rejoin:
        return say("rejoin.nothing_to_weld")
    plug = {"hole_mm": said.hole_mm}
    each = [
        say("rejoin.squeeze") if method == "squeeze" else say("rejoin.plug", side=side, **plug)
        for method, side in rejoin
    ]
    return say("rejoin.by", each=each)


def _undone(weld: WeldSaid, fates: Mapping[str, Fate], said: WeldsSaid) -> MappedWeld:
    """Return how a rivet or a bolt is undone: on both sides where a layer is kept there and another is not."""
    mark: Mark = "rivet" if weld.kind == "rivet" else "unbolt"
    how = "drill the head off from the {}, punch it through" if weld.kind == "rivet" else "undo it from the {}"
    again = say("rejoin.rivet" if weld.kind == "rivet" else "rejoin.bolt")
    own = _parted(weld.stack, fates)
    steps = []
    for whose in ("vehicle", "donor"):
        reach = weld.vehicle if whose == "vehicle" else weld.donor
        wanted = own and (whose == "vehicle" or said.donor == "used")
        side = reach[0] if reach else ""
        if wanted and not side:
            steps.append(Step(weld.id, "cannot", "", 0, (), (), "it is in reach from no side: take off what hides it"))
        elif wanted:
            steps.append(Step(weld.id, mark, side, 1, weld.stack[:1], (), how.format(side)))
        else:
            steps.append(Step(weld.id, "leave", "", 0, (), (), "leave it"))
    faults = [step.words for step in steps if step.mark == "cannot"]
    return MappedWeld(weld, steps[0], steps[1], again if own else say("rejoin.nothing"), faults[0] if faults else "")


def _of_seam(seam: SeamSaid, fates: Mapping[str, Fate], said: WeldsSaid) -> MappedWeld:
    own = _parted(seam.stack, fates)
    how = seam.how or "as the maker has it opened"
    leave = Step(seam.id, "leave", "", 0, (), (), "leave it")
    opened = Step(seam.id, "seam", "", 0, seam.stack, (), how)
    again = say("rejoin.adhesive" if own else "rejoin.nothing")
    return MappedWeld(seam, opened if own else leave, opened if own and said.donor == "used" else leave, again, "")


def _parted(stack: Sequence[str], fates: Mapping[str, Fate]) -> bool:
    return len({fates[name] for name in stack}) > 1


def stacked(said: WeldsSaid) -> tuple[WeldSaid | SeamSaid, ...]:
    """Return all welds, rivets, bolts and seams."""
    return (*said.welds, *said.seams)


def putting_in(said: WeldsSaid) -> dict[str, tuple[str, ...]]:
    """Return for each flange, in words, what goes over, under or between what when the part is put in, from its stacks."""
    fates = {part.id: part.fate for part in said.parts}
    into: dict[str, list[str]] = {}
    for stack in stacked(said):
        words = _goes(stack.stack, fates)
        own = into.setdefault(stack.flange, [])
        if words and words not in own:
            own.append(words)
    return {flange: tuple(words) for flange, words in into.items()}


def _goes(stack: Sequence[str], fates: Mapping[str, Fate]) -> str:
    runs: list[list[str]] = []
    for name in stack:
        if runs and fates[runs[-1][-1]] == fates[name]:
            runs[-1].append(name)
        else:
            runs.append([name])
    if len(runs) < 2:
        return ""
    told = []
    for index, run in enumerate(runs):
        if fates[run[0]] == "stays":
            continue
        name = " with ".join(run)
        above = runs[index - 1] if index else None
        below = runs[index + 1] if index + 1 < len(runs) else None
        if above and below:
            told.append(f"{name} goes between {above[-1]} (above) and {below[0]} (below)")
        elif below:
            told.append(f"{name} goes over {below[0]}")
        elif above:
            told.append(f"{name} goes under {above[-1]}")
    return "; ".join(told)


def metals_that_touch(said: WeldsSaid) -> dict[str, str]:
    """Return which parts lie on one another that eat each other unless they are kept apart, with the caution for them."""
    metals = {part.id: part.material for part in said.parts}
    metal_of = {}
    for stack in stacked(said):
        for a, b in pairwise(stack.stack):
            caution = metals_touch(metals[a], metals[b])
            if caution:
                metal_of[f"{a} and {b}"] = caution
    return metal_of


def fate_words(said: WeldsSaid) -> dict[str, str]:
    """Return what becomes of each part, in words."""
    return {part.id: FATES[part.fate] for part in said.parts}
