"""The drill map: how every spot weld is opened on the vehicle and on the donor, and joined again, each hole where its plug is.

For a stack of two to four layers every way to open it on either side is listed and every pair of them is tried: there are few.
"""

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import combinations, pairwise
from typing import Annotated, Literal, NamedTuple

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, Spoken

Side = Literal["top", "bottom"]
DonorKind = Literal["used", "new"]
OpenMethod = Literal["through_drill", "flat_cutter", "grind"]
RejoinMethod = Literal["plug", "squeeze"]
RejoinSide = Literal["top", "bottom", "both"]
Stage = Literal["vehicle", "donor", "rejoin"]
Lot = Literal["stays", "returns", "donor"]
SIDES: tuple[Side, Side] = ("top", "bottom")

WORK: dict[str, int] = {"through_drill": 2, "flat_cutter": 3, "grind": 5, "plug": 4, "squeeze": 2}
"""Work of each method, of a cutter and a grinder for each layer. Common practice, no source."""


class StackLayer(Model):
    """A layer of a weld's stack. `stays` on the vehicle; `returns`: taken off whole and put back; else it comes from the donor."""

    part: Code
    stays: bool
    returns: bool = False
    hard: bool = False

    @property
    def lot(self) -> Lot:
        """Whose the layer is in the joined stack."""
        return "stays" if self.stays else "returns" if self.returns else "donor"


class ReachBefore(Model):
    """From which sides a weld is in reach before the parts are joined; on a donor that is not spoken of, from both."""

    vehicle: Many[Side]
    donor: Many[Side] = SIDES


class Weld(Model):
    """One spot weld: its layers from top to bottom, and the sides from which it is in reach; `squeeze`: both jaws fit."""

    id: Code
    stack: Annotated[tuple[StackLayer, ...], Field(strict=False)]
    reach_before: ReachBefore
    reach_after: Many[Side]
    squeeze: bool = False


class DrillMap(Model):
    """The welds of a flange, and whether what comes in is a used part or a new one."""

    welds: Many[Weld]
    donor: DonorKind


class OpeningCut(Spoken):
    """One cut that opens a weld: from which side, through which layers. On a new part: the holes for plugs."""

    method: OpenMethod
    side: Side = Field(alias="from")
    layers: tuple[str, ...]


class Rejoining(Spoken):
    """One weld that joins the stack again."""

    method: RejoinMethod
    side: RejoinSide = Field(alias="from")


class WeldMapped(Model):
    """How a weld is opened and joined again. `holes` and `do_not_drill`: parts of the joined stack with a hole, and whole."""

    id: str
    possible: Literal[True] = True
    vehicle: tuple[OpeningCut, ...]
    donor: tuple[OpeningCut, ...]
    rejoin: tuple[Rejoining, ...]
    holes: tuple[str, ...]
    do_not_drill: tuple[str, ...]
    kept_holes: int
    work: int


class WeldImpossible(Model):
    """A weld that cannot be done: at which stage, which hard layers are in the way, and what that means."""

    id: str
    possible: Literal[False] = False
    stage: Stage
    in_the_way: tuple[str, ...]
    words: str


class WeldsMapped(Model):
    """Every weld of the map, in the order in which they were given."""

    welds: tuple[WeldMapped | WeldImpossible, ...]


def drill_map(request: DrillMap) -> WeldsMapped:
    """Say for every spot weld how it is opened on vehicle and donor and joined again: no hole in both of two mating flanges.

    Raises `Refused` for a stack of fewer than two or more than four layers, a part twice in it, a layer that stays and returns.
    """
    for index, weld in enumerate(request.welds):
        _check(weld, f"welds.{index}")
    return WeldsMapped(welds=tuple(_mapped(weld, request.donor) for weld in request.welds))


def _check(weld: Weld, where: str) -> None:
    if not 2 <= len(weld.stack) <= 4:
        raise Refused(
            f"Weld {weld.id}: a spot weld joins two to four layers, this one has {len(weld.stack)}.",
            field=f"{where}.stack",
            value=len(weld.stack),
        )
    parts = [layer.part for layer in weld.stack]
    for index, layer in enumerate(weld.stack):
        if layer.part in parts[:index]:
            raise Refused(
                f"Weld {weld.id}: {layer.part} is in the stack twice; name its folds apart.",
                field=f"{where}.stack.{index}.part",
                value=layer.part,
            )
        if layer.stays and layer.returns:
            raise Refused(
                f"Weld {weld.id}: {layer.part} either stays on the vehicle or is taken off and put back.",
                field=f"{where}.stack.{index}.returns",
                value=True,
            )


class _Stack(NamedTuple):
    """A weld without its names: the lot of each layer, which are hard, and what is in reach."""

    lots: tuple[Lot, ...]
    hard: tuple[bool, ...]
    vehicle: tuple[Side, ...]
    donor: tuple[Side, ...]
    after: tuple[Side, ...]
    squeeze: bool
    kind: DonorKind


class _Cut(NamedTuple):
    method: OpenMethod
    side: Side
    layers: tuple[int, ...]


class _Opened(NamedTuple):
    """A way to open a stack: its cuts, the kept layers that have a hole, the joints that are open, and the work."""

    cuts: tuple[_Cut, ...]
    holes: frozenset[int]
    open: frozenset[int]
    work: int


class _Done(NamedTuple):
    vehicle: tuple[_Cut, ...]
    donor: tuple[_Cut, ...]
    rejoin: tuple[tuple[RejoinMethod, RejoinSide], ...]
    holes: frozenset[int]
    kept_holes: int
    work: int


def _mapped(weld: Weld, kind: DonorKind) -> WeldMapped | WeldImpossible:
    stack = _Stack(
        tuple(layer.lot for layer in weld.stack),
        tuple(layer.hard for layer in weld.stack),
        tuple(side for side in SIDES if side in weld.reach_before.vehicle),
        tuple(side for side in SIDES if side in weld.reach_before.donor),
        tuple(side for side in SIDES if side in weld.reach_after),
        weld.squeeze,
        kind,
    )
    names = [layer.part for layer in weld.stack]
    mapped = _best(stack)
    if isinstance(mapped, str):
        blocking = tuple(names[index] for index in _in_the_way(stack))
        return WeldImpossible(
            id=weld.id, stage=mapped, in_the_way=blocking, words=_words(stack, mapped, blocking, names)
        )
    return WeldMapped(
        id=weld.id,
        vehicle=_named(mapped.vehicle, names),
        donor=_named(mapped.donor, names),
        rejoin=tuple(Rejoining(method=method, side=side) for method, side in mapped.rejoin),
        holes=tuple(name for index, name in enumerate(names) if index in mapped.holes),
        do_not_drill=tuple(name for index, name in enumerate(names) if index not in mapped.holes),
        kept_holes=mapped.kept_holes,
        work=mapped.work,
    )


def _named(cuts: Iterable[_Cut], names: Sequence[str]) -> tuple[OpeningCut, ...]:
    return tuple(
        OpeningCut(method=cut.method, side=cut.side, layers=tuple(names[index] for index in cut.layers)) for cut in cuts
    )


@lru_cache(maxsize=4096)
def _best(stack: _Stack) -> _Done | Stage:
    """Return the best way to do a weld, or the stage that cannot be done at all."""
    on_vehicle = _openings(stack.lots, stack.hard, frozenset({"stays", "returns"}), stack.vehicle)
    if not on_vehicle:
        return "vehicle"
    on_donor = _on_donor(stack)
    if not on_donor:
        return "donor"
    ways = [_joined(stack, first, second) for first in on_vehicle for second in on_donor]
    done = [way for way in ways if way is not None]
    if not done:
        return "rejoin"
    best: _Done = min(done, key=lambda way: (way.kept_holes, way.work))
    return best


def _on_donor(stack: _Stack) -> tuple[_Opened, ...]:
    if "donor" not in stack.lots:
        return (_Opened((), frozenset(), frozenset(), 0),)
    if stack.kind == "used":
        return _openings(stack.lots, stack.hard, frozenset({"donor"}), stack.donor)
    return tuple(_drilled_or_not(stack))


def _drilled_or_not(stack: _Stack) -> Iterator[_Opened]:
    """Return the ways to prepare a new part: each unbroken run of its layers is left alone or drilled through as a whole."""
    runs: list[tuple[int, ...]] = []
    for index, lot in enumerate(stack.lots):
        if lot != "donor":
            continue
        if runs and runs[-1][-1] == index - 1:
            runs[-1] = (*runs[-1], index)
        else:
            runs.append((index,))
    soft = [run for run in runs if not any(stack.hard[index] for index in run)]
    for many in range(len(soft) + 1):
        for drilled in combinations(soft, many):
            yield _Opened(
                tuple(_Cut("through_drill", "top", run) for run in drilled),
                frozenset(index for run in drilled for index in run),
                frozenset(index for run in drilled for index in run[:-1]),
                WORK["through_drill"] * len(drilled),
            )


def _openings(
    lots: Sequence[Lot], hard: Sequence[bool], kept: frozenset[Lot], reach: Sequence[Side]
) -> tuple[_Opened, ...]:
    """Return the ways to open every joint of a kept layer with one of another lot, the one of least work for each outcome."""
    keeps = [lot in kept for lot in lots]
    must = {
        joint
        for joint, (a, b) in enumerate(pairwise(range(len(lots))))
        if (keeps[a] or keeps[b]) and lots[a] != lots[b]
    }
    best: dict[tuple[frozenset[int], frozenset[int]], _Opened] = {}
    for cuts, opened in _ways(keeps, hard, reach):
        if not must <= opened:
            continue
        holes = frozenset(index for cut in cuts if cut.method != "grind" for index in cut.layers if keeps[index])
        work = sum(WORK[cut.method] * (1 if cut.method == "through_drill" else len(cut.layers)) for cut in cuts)
        outcome = holes, frozenset(joint for joint in opened if keeps[joint] and keeps[joint + 1])
        if outcome not in best or work < best[outcome].work:
            best[outcome] = _Opened(cuts, *outcome, work)
    return tuple(best.values())


def _ways(
    keeps: Sequence[bool], hard: Sequence[bool], reach: Sequence[Side]
) -> Iterator[tuple[tuple[_Cut, ...], frozenset[int]]]:
    """Yield every way to cut a stack, with the joints that it opens; joint i lies under layer i."""
    many = len(keeps)
    yield (), frozenset()
    if not any(hard):
        for side in reach:
            yield (_Cut("through_drill", side, tuple(range(many))),), frozenset(range(many - 1))
    own: dict[Side, list[_Cut]] = {side: list(_cuts_from(side, keeps, hard)) for side in reach}
    for cut in (cut for cuts in own.values() for cut in cuts):
        yield (cut,), _opened_by(cut)
    for above in own.get("top", ()):
        for below in own.get("bottom", ()):
            if len(above.layers) + len(below.layers) < many:
                yield (above, below), _opened_by(above) | _opened_by(below)


def _cuts_from(side: Side, keeps: Sequence[bool], hard: Sequence[bool]) -> Iterator[_Cut]:
    many = len(keeps)
    for deep in range(1, many):
        layers = tuple(range(deep)) if side == "top" else tuple(range(many - deep, many))
        if not any(hard[index] for index in layers):
            yield _Cut("flat_cutter", side, layers)
        if not any(keeps[index] for index in layers):
            yield _Cut("grind", side, layers)


def _opened_by(cut: _Cut) -> frozenset[int]:
    return frozenset(index if cut.side == "top" else index - 1 for index in cut.layers)


def _joined(stack: _Stack, vehicle: _Opened, donor: _Opened) -> _Done | None:
    """Return how a stack that was opened in these ways is joined again, by the least work; None where it cannot be."""
    lots = stack.lots
    holes = vehicle.holes | donor.holes
    between = {joint for joint in range(len(lots) - 1) if lots[joint] != lots[joint + 1]}
    if any(joint in holes and joint + 1 in holes for joint in between):
        return None
    opened = between | vehicle.open | donor.open
    rejoin = _rejoined(stack, holes, opened)
    if rejoin is None:
        return None
    work = vehicle.work + donor.work + sum(WORK[method] for method, _ in rejoin)
    kept_holes = sum(lots[index] != "donor" for index in holes)
    return _Done(vehicle.cuts, donor.cuts, rejoin, holes, kept_holes, work)


def _rejoined(
    stack: _Stack, holes: frozenset[int], opened: set[int] | frozenset[int]
) -> tuple[tuple[RejoinMethod, RejoinSide], ...] | None:
    many = len(stack.lots)
    if not opened:
        return None if holes else ()
    if not holes:
        return (("squeeze", "both"),) if stack.squeeze and len(stack.after) == 2 else None
    above = next(index for index in range(many + 1) if index == many or index not in holes)
    below = next(index for index in range(many + 1) if index == many or many - 1 - index not in holes)
    whole = range(above, many - below)
    if not whole or any(index in holes for index in whole) or any(joint in opened for joint in whole[:-1]):
        return None
    sides = [side for side, deep in zip(SIDES, (above, below), strict=True) if deep]
    if not set(sides) <= set(stack.after):
        return None
    return tuple(("plug", side) for side in sides)


def _in_the_way(stack: _Stack) -> tuple[int, ...]:
    """Return a smallest set of hard layers without whose hardness the weld could be done; empty where that would not help."""
    hard = [index for index, is_hard in enumerate(stack.hard) if is_hard]
    for many in range(1, len(hard) + 1):
        for softened in combinations(hard, many):
            soft = tuple(is_hard and index not in softened for index, is_hard in enumerate(stack.hard))
            if not isinstance(_best(stack._replace(hard=soft)), str):
                return softened
    return ()


def _words(stack: _Stack, stage: Stage, blocking: Sequence[str], parts: Sequence[str]) -> str:
    """Return why a weld cannot be done and what to do instead, for the one who holds the drill."""
    what = {
        "vehicle": "It cannot be opened on the vehicle",
        "donor": "It cannot be opened on the donor",
        "rejoin": "It can be opened, but not joined again",
    }[stage]
    if blocking:
        names = " and ".join(blocking)
        return (
            f"{what}: {names} {'is' if len(blocking) == 1 else 'are'} too hard to drill. Do not drill it; part the seam beside it, "
            "leave this weld to the maker's procedure, or move the seam to where the hard layer ends."
        )
    instead = [words for words, changed in _remedies(stack, stage, parts) if not isinstance(_best(changed), str)]
    if instead:
        return f"{what}. Instead: {instead[0]}."
    if stage == "rejoin":
        return (
            f"{what}: two mating flanges would both have a hole, or no layer would be left whole. Join it by the maker's other "
            "means (adhesive, rivets), or move the seam."
        )
    return f"{what} as the layers lie. Part the seam beside it, or move the seam."


def _remedies(stack: _Stack, stage: Stage, parts: Sequence[str]) -> Iterator[tuple[str, _Stack]]:
    """Yield what might be done about a weld, in words, each with the stack as it would then be."""
    seen: dict[Stage, tuple[Side, ...]] = {"vehicle": stack.vehicle, "donor": stack.donor, "rejoin": stack.after}
    when = {"vehicle": "on the vehicle", "donor": "on the donor", "rejoin": "once it is in"}[stage]
    hidden = [side for side in SIDES if side not in seen[stage]]
    if hidden:
        words = f"take off what hides it, or open a window in scrap, so that it is in reach from {' and '.join(hidden)} {when}"
        yield words, _in_reach(stack, stage)
    both = stack._replace(squeeze=True, after=SIDES)
    yield "join it with squeeze-type tongs, both jaws in reach", both
    yield f"join it with squeeze-type tongs, and with both sides in reach {when}", _in_reach(both, stage)
    others: tuple[tuple[Lot, str], ...] = (
        ("donor", "let {} come with the part that goes in"),
        ("stays", "leave a strip of {} on the vehicle there"),
    )
    for part, lot, index in zip(parts, stack.lots, range(len(parts)), strict=True):
        for other, how in others:
            if lot != other:
                lots = (*stack.lots[:index], other, *stack.lots[index + 1 :])
                yield how.format(part), stack._replace(lots=lots)


def _in_reach(stack: _Stack, stage: Stage) -> _Stack:
    if stage == "vehicle":
        return stack._replace(vehicle=SIDES)
    return stack._replace(donor=SIDES) if stage == "donor" else stack._replace(after=SIDES)
