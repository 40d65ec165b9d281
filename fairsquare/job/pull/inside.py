"""What can be pulled with inside the vehicle: the shop's jacks and pullers wherever one can bear, and ties between rails.

Which of them are tried, and what such a pull is called, is common practice, no source: a puller where two places stand too far
apart, a jack where they stand too near, a tie where both rails went the same way and nothing joins them.
"""

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from fairsquare.core.model import Code, Row3
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import WorkPull
from fairsquare.core.pull.setting import Machine, PlacedTie, Setting
from fairsquare.core.sheet.model import Sheet, partner_code, points_by_first_code, tolerances
from fairsquare.core.structure.frame import Floats
from fairsquare.core.structure.skeleton import Skeleton

TIE_N = 60_000.0
"""A bar of 20 mm with a nut at each end. Common practice, no source: put in what this shop's takes."""
_LEAST_MM = 250.0
"""Between two places nearer than this no jack or puller finds room. Common practice, no source."""
_MOST_LINES, _MOST_TIES = 60, 3
_OFF_SHARE = 0.5
_NAME = 36
"""Letters of a piece's name that stand in the name of where it bears, together with the point's code."""


class Inside(NamedTuple):
    """A setting with what may be tried inside the vehicle: which machines are one piece, and between which hooks and machines
    nothing is tried."""

    setting: Setting
    pieces: Mapping[str, str]
    barred: frozenset[tuple[str, str]]


def inside_of(
    sheet: Sheet, places: Mapping[Code, Row3], setting: Setting, skeleton: Skeleton, gear: Iterable[Gear]
) -> Inside:
    """Return what may be tried inside a vehicle whose points stand at `places`: what a person placed, and the shop's pieces.

    A line is tried where its two places are apart by more than half a tolerance other than on the sheet: drawn in where too far
    apart, pushed where too near, those that are out most first.
    """
    at = points_by_first_code(sheet)
    known = [code for code in places if code in at and code in skeleton.nodes and code not in setting.assumed]
    moved = {code: np.subtract(places[code], at[code].xyz) for code in known}
    bears = [code for code in known if code not in {*setting.no_bearing, *setting.still}]
    placed = {machine.piece for machine in setting.machines}
    offered = tuple(
        Machine(
            id=f"{piece.name[: _NAME - len(code)]} on {code}",
            piece=piece.name,
            bears_on=code,
            pushes=piece.kind == "jack",
            capacity_n=piece.capacity_n,
            bears_capacity_n=_takes_there(setting, code),
        )
        for piece in gear
        if piece.kind in ("jack", "puller") and piece.found != "hurt" and piece.name not in placed
        for code in bears
    )
    machines = (*setting.machines, *offered)
    ties = (*setting.ties, *_ties(sheet, moved, setting, skeleton))
    pieces = {machine.id: machine.piece for machine in machines if machine.piece}
    return Inside(
        setting.model_copy(update={"machines": machines, "ties": ties}),
        pieces,
        _barred(sheet, moved, setting, skeleton, machines),
    )


def _takes_there(setting: Setting, code: Code) -> float | None:
    """Return what a place takes, as far as it is known of what takes hold or is clamped there; None: unknown."""
    there = [hook.capacity_n for hook in setting.hooks if hook.code == code]
    there += [anchor.capacity_n for anchor in setting.anchors if anchor.code == code and anchor.kind == "clamp"]
    return max((takes for takes in there if takes is not None), default=None)


def _barred(
    sheet: Sheet, moved: Mapping[Code, Floats], setting: Setting, skeleton: Skeleton, machines: Sequence[Machine]
) -> frozenset[tuple[str, str]]:
    """Return hooks and machines between which nothing is tried: all but those whose places are apart otherwise than they belong."""
    points, asked = points_by_first_code(sheet), {machine.id for machine in setting.machines}
    off: dict[tuple[str, str], float] = {}
    barred: set[tuple[str, str]] = set()
    for machine in machines:
        for hook in setting.hooks:
            line = hook.id, machine.id
            a, b = hook.code, machine.bears_on
            barred.add(line)
            if a not in moved or b not in moved or a in setting.still or b in setting.no_bearing:
                continue
            apart = np.subtract(skeleton.nodes[a], skeleton.nodes[b])
            far = float(np.linalg.norm(apart))
            longer = float(np.linalg.norm(apart + moved[a] - moved[b])) - far
            wrong = -longer if machine.pushes else longer
            least = _OFF_SHARE * max(*tolerances(sheet, points[a]), *tolerances(sheet, points[b]))
            if far >= _LEAST_MM and wrong > least:
                off[line] = wrong + (1e6 if machine.id in asked else 0.0)
    return frozenset(barred - set(sorted(off, key=lambda line: -off[line])[:_MOST_LINES]))


def _ties(sheet: Sheet, moved: Mapping[Code, Floats], setting: Setting, skeleton: Skeleton) -> list[PlacedTie]:
    """Return ties between left and right where both went the same way sideways, neither is held, and no member joins them."""
    points = points_by_first_code(sheet)
    held = {anchor.code for anchor in setting.anchors} | set(setting.still)
    joined = {frozenset((member.i, member.j)) for member in skeleton.members}
    there = {frozenset(tie.between) for tie in setting.ties}
    found: list[tuple[float, PlacedTie]] = []
    for code, point in points.items():
        other = partner_code(point)
        if point.xyz[1] <= 0 or other not in moved or code not in moved or {code, other} & held:
            continue
        both = frozenset((code, str(other)))
        sways = float(moved[code][1]), float(moved[str(other)][1])
        limit = _OFF_SHARE * tolerances(sheet, point)[1]
        if both in joined or both in there or min(map(abs, sways)) <= limit or sways[0] * sways[1] < 0:
            continue
        tie = PlacedTie(id=f"tie {code} {other}"[:40], between=(code, str(other)), capacity_n=TIE_N)
        found.append((abs(sum(sways)), tie))
    return [tie for _, tie in sorted(found, key=lambda one: -one[0])[:_MOST_TIES]]


def only_used(before: Setting, tried: Setting, pulls: Iterable[WorkPull]) -> Setting:
    """Return the setting of before with what pulls use besides of one that was tried."""
    works = list(pulls)
    by = {chain.tower for work in works for chain in work.chains}
    ties = {tie for work in works for tie in work.ties}
    own, tied = {machine.id for machine in before.machines}, {tie.id for tie in before.ties}
    return before.model_copy(
        update={
            "machines": (*before.machines, *(m for m in tried.machines if m.id in by - own)),
            "ties": (*before.ties, *(tie for tie in tried.ties if tie.id in ties - tied)),
        }
    )


def named(setting: Setting, skeleton: Skeleton, work: WorkPull) -> tuple[str, ...]:
    """Return what a pull inside the vehicle is called, in the words of the trade; nothing of one by towers alone."""
    hooks, machines = {h.id: h.code for h in setting.hooks}, {m.id: m for m in setting.machines}
    ties = {tie.id: tie.between for tie in setting.ties}
    words = [f"Both rails tied at {ties[tie][0]} and {ties[tie][1]}, drawn as one" for tie in work.ties if tie in ties]
    for chain in work.chains:
        machine = machines.get(chain.tower)
        if machine is not None and chain.hook in hooks:
            words.append(_called(skeleton, hooks[chain.hook], machine.bears_on, pushes=machine.pushes))
    return tuple(words)


def _called(skeleton: Skeleton, hooked: Code, bears: Code, *, pushes: bool) -> str:
    along = np.subtract(skeleton.nodes[hooked], skeleton.nodes[bears])
    across = skeleton.nodes[hooked][1] * skeleton.nodes[bears][1] < 0
    if across and abs(along[0]) < abs(along[1]) / 3:
        return f"{'Pushed apart from inside' if pushes else 'Drawn together'}, {hooked} and {bears}"
    if across:
        way = "Jacked square across the short diagonal" if pushes else "Drawn square across the long diagonal"
        return f"{way} {hooked}–{bears}"
    return f"Jacked apart, {hooked} from {bears}" if pushes else f"Drawn together, {hooked} and {bears}"
