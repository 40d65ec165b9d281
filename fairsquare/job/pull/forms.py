"""Special forms of pulls, proposed where the picture of a vehicle calls for one: what to add to the rig, the pull, and its force.

Three-point bending, and a hook set higher or lower: they want a tower or a hold where none stands. What jacks, pullers and ties do
(`inside.py`) the search finds by itself. Which form suits what is common practice, no source; how hard is found by playing it.
"""

from collections.abc import Iterator, Mapping
from typing import NamedTuple

import numpy as np

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Row3
from fairsquare.core.pull.job import UNKNOWN_N, ChainSet, WorkPull, chains_of, plan_request
from fairsquare.core.pull.plan import School, game_of
from fairsquare.core.pull.setting import PlacedAnchor, PlacedHook, PlacedTower, Setting, frame_of_setting
from fairsquare.core.sheet.model import Sheet, partner_code, points_by_code, tolerances
from fairsquare.core.structure.frame import Floats
from fairsquare.job.pull.full import within_working

_ASIDE_MM, _ABOVE_MM, _APART_MM, _AHEAD_MM = 1100.0, 700.0, 160.0, 1600.0
_MOST_N, _LEAST_N = 300_000.0, 2000.0
_FORCES, _FINER = 13, 9
_SPOILS_MM = 10.0
_WORTH_MM = 0.5


class Form(NamedTuple):
    """A special form: a name that stays, what it is, why, the setting with what it needs, the pull, and what it gains: how far
    points are beyond their tolerances before and after, mm."""

    id: str
    title: str
    why: str
    setting: Setting
    work: WorkPull
    before_mm: float
    after_mm: float


class _Draft(NamedTuple):
    id: str
    title: str
    why: str
    setting: Setting
    chains: tuple[ChainSet, ...]


def forms_tried(sheet: Sheet, places: Mapping[Code, Row3], setting: Setting, school: School) -> Iterator[Form | str]:
    """Yield the title of each form that the picture calls for before it is played, and the form where it brings points nearer, with
    the force at which it helps most. `places` are where points stand now; what gains less than half a millimetre of what is beyond
    tolerance is left out."""
    for draft in _Picture(sheet, places, setting).drafts():
        yield draft.title
        form = _played(sheet, places, school, draft)
        if form is not None and form.after_mm < form.before_mm - _WORTH_MM:
            yield form


def _played(sheet: Sheet, places: Mapping[Code, Row3], school: School, draft: _Draft) -> Form | None:
    """Return a draft at the force at which it leaves least beyond tolerance, or None where none of it is to be played."""
    try:
        request = plan_request(sheet, places, within_working(draft.setting), school)
    except Refused:
        return None
    game = game_of(request)
    rest, unit = game.begun(), chains_of(draft.setting, WorkPull(chains=draft.chains))
    before = float(game.beyond(game.start).sum())
    takes = min(_most(within_working(draft.setting), chain) / chain.force_n for chain in draft.chains)
    coarse = np.geomspace(_LEAST_N, min(takes, _MOST_N), _FORCES)
    ratio = float(coarse[1] / coarse[0])

    def tried(force: float) -> float | None:
        """Return what is left beyond tolerance, or None where something takes more than it can."""
        chains = tuple(chain._replace(force=chain.force * float(force)) for chain in unit)
        pull = game.pulled(rest, chains).pulls[-1]
        uses = [*pull.anchors.values(), *(chain.force / game.rig.limit(chain) for chain in chains)]
        return None if max(uses) > 1 else float(game.beyond(pull.free).sum())

    try:
        done: list[tuple[float, float]] = []
        for force in coarse:
            after = tried(float(force))
            if after is None or after > before + _SPOILS_MM:
                break
            done.append((after, float(force)))
        # metal gives all at once: look closer about the best so far, and beyond the last that did not spoil anything
        near = {force for _, force in (min(done), done[-1])} if done else set()
        for start in near:
            for force in np.geomspace(start / ratio, start * ratio, _FINER + 2)[1:-1]:
                after = tried(float(force))
                if after is None or after > before + _SPOILS_MM:
                    break
                done.append((after, float(force)))
        best = min(done, default=None)
    except Refused:
        return None
    if best is None:
        return None
    force = round(best[1], -2)
    chains = tuple(c.model_copy(update={"force_n": c.force_n * force}) for c in draft.chains)
    return Form(
        draft.id, draft.title, draft.why, draft.setting, WorkPull(chains=chains, words=draft.title), before, best[0]
    )


def _most(setting: Setting, chain: ChainSet) -> float:
    hooks = {hook.id: hook.capacity_n for hook in setting.hooks}
    others = {tower.id: tower.capacity_n for tower in setting.towers}
    others |= {machine.id: machine.capacity_n for machine in setting.machines}
    return min(hooks[chain.hook] or UNKNOWN_N, others[chain.tower] or UNKNOWN_N)


class _Picture:
    """What a vehicle looks like to who chooses a form: stations of left and right, deviations, what is held."""

    def __init__(self, sheet: Sheet, places: Mapping[Code, Row3], setting: Setting) -> None:
        self.sheet, self.setting = sheet, setting
        self.points = points_by_code(sheet)
        self.nodes = frame_of_setting(sheet, setting).nodes
        self.by: dict[Code, Floats] = {
            code: np.subtract(places[code], self.points[code].xyz)
            for code in self.nodes
            if code in places and code in self.points
        }
        self.limit = {code: np.array(tolerances(sheet, self.points[code])) for code in self.by}
        self.held = {anchor.code for anchor in setting.anchors}
        self.wide = max(abs(place[1]) for place in self.nodes.values())
        middle = float(np.median([place[2] for place in self.nodes.values()]))
        low = [code for code in self.by if self.nodes[code][2] <= middle + 300]
        self.upper = [code for code in self.by if code not in low]
        pairs = {
            code: other
            for code in low
            if (other := partner_code(self.points[code])) in self.by and other != code and self.nodes[code][1] > 0
        }
        self.stations = sorted(
            ((left, right) for left, right in pairs.items() if right), key=lambda p: -self.nodes[p[0]][0]
        )
        self.low = low

    def drafts(self) -> Iterator[_Draft]:
        """Yield the forms that the picture calls for."""
        yield from self._bent_between()
        yield from self._higher()

    # ── the forms ────────────────────────────────────────────────────────────

    def _bent_between(self) -> Iterator[_Draft]:
        for side in (0, 1):
            row = [station[side] for station in self.stations]
            for a, b, c in zip(row, row[1:], row[2:], strict=False):
                share = (self.nodes[b][0] - self.nodes[a][0]) / (self.nodes[c][0] - self.nodes[a][0])
                bow = self.by[b] - (1 - share) * self.by[a] - share * self.by[c]
                axis = 1 if abs(bow[1]) >= abs(bow[2]) else 2
                if abs(bow[axis]) <= self.limit[b][axis]:
                    continue
                setting, hook = self._hooked(self.setting, b)
                setting = self._held_at(setting, a, c)
                x, y, z = self.nodes[b]
                chains: tuple[ChainSet, ...]
                way = -float(np.sign(bow[axis]))
                if axis == 1:
                    tower = PlacedTower(id=f"across from {b}", at=(x, way * (self.wide + _ASIDE_MM)))
                    chains, words = (self._chain(hook, tower.id, z),), "drawn back sideways"
                    setting = self._with(setting, tower)
                elif way < 0:
                    pot = PlacedTower(id=f"floor under {b}", at=(x, y + 20.0), z=(0.0, 100.0))
                    setting = self._with(setting, pot)
                    chains, words = (self._chain(hook, pot.id, 0.0),), "chained down at the high place"
                    if c not in self.held and self.by[c][2] < 0:
                        setting, beyond = self._hooked(setting, c)
                        jack = PlacedTower(
                            id=f"jack under {c}", at=(self.nodes[c][0], self.nodes[c][1] + 20.0), z=(1400.0, 1600.0)
                        )
                        setting = self._with(setting, jack)
                        chains = (*chains, self._chain(beyond, jack.id, 1500.0))
                        words += f", jacked up at {c} beyond it"
                else:
                    gantry = PlacedTower(id=f"above {b}", at=(x, y + 20.0), z=(z + _ABOVE_MM, z + 2 * _ABOVE_MM))
                    setting = self._with(setting, gantry)
                    chains, words = (self._chain(hook, gantry.id, z + _ABOVE_MM),), "drawn up at the low place"
                yield _Draft(
                    f"bend {b}",
                    f"Three-point bending at {b}",
                    f"{b} stands {abs(bow[axis]):.1f} mm out of the line of {a} and {c}: held there, {words}.",
                    setting,
                    chains,
                )

    def _higher(self) -> Iterator[_Draft]:
        for top in self.upper:
            same = [code for code in self.low if self.nodes[code][1] * self.nodes[top][1] > 0]
            if not same:
                continue
            bottom = min(same, key=lambda code: float(np.linalg.norm(np.subtract(self.nodes[code], self.nodes[top]))))
            off_top, off_bottom = ((np.abs(self.by[c]) > self.limit[c])[:2].any() for c in (top, bottom))
            if off_top == off_bottom:
                continue
            code, word = (top, "higher") if off_top else (bottom, "lower")
            other = bottom if off_top else top
            wanted = -self.by[code][:2] / np.linalg.norm(self.by[code][:2])
            setting, hook = self._hooked(self.setting, code)
            x, y, height = self.nodes[code]
            ahead = (x + _AHEAD_MM * float(wanted[0]), y + _AHEAD_MM * float(wanted[1]))
            tower = PlacedTower(id=f"in line with {code}", at=ahead, z=(max(0.0, height - 300), height + 300))
            setting = self._with(setting, tower)
            yield _Draft(
                f"height {code}",
                f"Hook set {word}, at {code}",
                f"{code} is out and {other} is not: a level chain at {code} brings the {'top' if off_top else 'bottom'} alone.",
                setting,
                (self._chain(hook, tower.id, height),),
            )

    # ── what they are made of ────────────────────────────────────────────────

    def _hooked(self, setting: Setting, code: Code) -> tuple[Setting, str]:
        known = next((hook.id for hook in setting.hooks if hook.code == code), None)
        if known:
            return setting, known
        hook = PlacedHook(id=f"round {code}", code=code, kind="chain")
        return setting.model_copy(update={"hooks": (*setting.hooks, hook)}), hook.id

    def _held_at(self, setting: Setting, *codes: Code) -> Setting:
        held = {anchor.code for anchor in setting.anchors}
        more = tuple(PlacedAnchor(id=f"hold {code}", code=code) for code in dict.fromkeys(codes) if code not in held)
        return setting.model_copy(update={"anchors": (*setting.anchors, *more)})

    def _with(self, setting: Setting, tower: PlacedTower) -> Setting:
        others = tuple(other for other in setting.towers if other.id != tower.id)
        return setting.model_copy(update={"towers": (*others, tower)})

    def _chain(self, hook: str, tower: str, height: float) -> ChainSet:
        return ChainSet(hook=hook, tower=tower, height_mm=height, force_n=1.0)
