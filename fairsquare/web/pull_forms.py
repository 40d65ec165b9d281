"""What is typed of a pull: how the vehicle is held and pulled, the plan, and one pull of it."""

from typing import Any, cast

from pydantic import ValidationError

from fairsquare.core.errors import Refused
from fairsquare.core.model import Row3
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import PURPOSES, ChainSet, PlanSaid, WorkPull
from fairsquare.core.pull.plan import School
from fairsquare.core.pull.setting import Machine, PlacedAnchor, PlacedHook, PlacedTie, PlacedTower, Setting
from fairsquare.core.structure.of_sheet import Box, ExtraMember
from fairsquare.web.forms import hours_of, number_of
from fairsquare.web.page import Form

SCHOOLS = {"outward": "from the middle outward", "reverse": "as the damage came, backwards"}
CHAIN_ROWS = 6
_MOST_ROWS = 400


def school_typed(text: str) -> School:
    """Return in which order a plan is made. Raises `Refused`."""
    if text not in SCHOOLS:
        raise Refused(
            "Say in which order: from the middle outward, or as it came, backwards.", field="school", value=text[:20]
        )
    return cast(School, text)


def plan_typed(plan: PlanSaid, form: Form, pull: int, setting: Setting | None = None) -> tuple[PlanSaid, int]:
    """Return the plan as a form changes it, and the pull to show.

    A machine of the setting that bears on the vehicle needs no height; it is refused on the place that it hooks, and where it is
    asked for more than it takes.
    """
    pulls, do = list(plan.pulls), form.text("do")
    index = pull - 1
    if do != "add" and not 0 <= index < len(pulls):
        raise Refused("There is no such pull.", field="pull", value=pull)
    if do == "drop":
        pulls.pop(index)
        return plan.model_copy(update={"pulls": tuple(pulls)}), max(1, index)
    if do in ("earlier", "later"):
        other = index + (1 if do == "later" else -1)
        if not 0 <= other < len(pulls):
            raise Refused("It stands at the end already.", field="pull", value=pull)
        pulls[index], pulls[other] = pulls[other], pulls[index]
        return plan.model_copy(update={"pulls": tuple(pulls)}), other + 1
    work = _pull_typed(form, setting)
    if do == "add":
        pulls.append(work)
        pull = len(pulls)
    else:
        pulls[index] = work
    return plan.model_copy(update={"pulls": tuple(pulls)}), pull


def _pull_typed(form: Form, setting: Setting | None) -> WorkPull:
    chains = []
    inside = {machine.id: machine for machine in setting.machines} if setting else {}
    at = {hook.id: hook.code for hook in setting.hooks} if setting else {}
    for k in range(CHAIN_ROWS):
        force = number_of(form.text(f"force-{k}"), f"force-{k}")
        if not form.text(f"hook-{k}") or force is None:
            continue
        if not 0 < force <= 1e5:
            raise Refused("The force should be above 0 kN.", field=f"force-{k}", value=force)
        height = number_of(form.text(f"height-{k}"), f"height-{k}")
        machine = inside.get(form.text(f"tower-{k}"))
        if machine is not None:
            height = 0.0
            _check_machine(machine, at.get(form.text(f"hook-{k}"), ""), 1000 * force, k)
        if height is None:
            raise Refused("How high is the chain at the tower, in mm?", field=f"height-{k}", value="")
        chains.append(
            ChainSet(hook=form.text(f"hook-{k}"), tower=form.text(f"tower-{k}"), height_mm=height, force_n=1000 * force)
        )
    ties = form.several("ties")
    if not chains:
        raise Refused("A pull needs a chain: choose its hook and say how hard.", field="force-0", value="")
    purpose = form.text("purpose")
    if purpose not in PURPOSES:
        raise Refused("Say what the pull is for.", field="purpose", value=purpose[:20])
    past = number_of(form.text("past_mm"), "past_mm") or 0.0
    if abs(past) > 50:
        raise Refused("A target is set at most 50 mm past the sheet.", field="past_mm", value=past)
    return WorkPull(
        purpose=purpose,
        chains=tuple(chains),
        ties=ties,
        first_off=form.text("first_off").strip()[:300],
        first_hours=hours_of(form.text("first_hours")),
        body_off=bool(form.text("body_off")),
        clean=form.text("clean").strip()[:300],
        words=form.text("words").strip()[:500],
        past_mm=past,
        past_reason=form.text("past_reason").strip()[:500],
    )


def _check_machine(machine: Machine, hooked: str, force_n: float, row: int) -> None:
    """Refuse a machine that bears where its hook is, and one that is asked for more than it takes."""
    if machine.bears_on == hooked:
        raise Refused(
            f"{machine.id} bears on {hooked}, where its hook is: it would do nothing. Choose another hook.",
            field=f"tower-{row}",
            value=machine.id,
        )
    if machine.capacity_n is not None and force_n > machine.capacity_n:
        raise Refused(
            f"{machine.id} takes {machine.capacity_n / 1000:.0f} kN: {force_n / 1000:.0f} kN is more.",
            field=f"force-{row}",
            value=force_n,
        )


def setting_typed(form: Form, now: Setting | None, gear: tuple[Gear, ...]) -> Setting:
    """Return a setting as it was typed: one row a tower, hook, anchor and member; an emptied name takes the row out.

    A piece of the rig that was chosen anew (`now` is what was kept before) brings what it takes, and its ram. Raises `Refused`.
    """
    typed = _SettingTyped(form, now, gear)
    try:
        return Setting(
            mass_kg=typed.figure("mass_kg"),
            cg=typed.place_of("cg_x", "cg_y", "cg_z"),
            towers=tuple(typed.tower(f"tower-{k}") for k in typed.rows("tower")),
            hooks=tuple(typed.hook(f"hook-{k}") for k in typed.rows("hook")),
            anchors=tuple(typed.anchor(f"anchor-{k}") for k in typed.rows("anchor")),
            machines=tuple(typed.machine(f"machine-{k}") for k in typed.rows("machine")),
            ties=tuple(typed.tie(f"tie-{k}") for k in typed.rows("tie")),
            no_bearing=tuple(dict.fromkeys(form.text("no_bearing").replace(",", " ").split())),
            still=tuple(dict.fromkeys(form.text("still").replace(",", " ").split())),
            boxes={form.text(f"box-{k}-id"): typed.box(f"box-{k}") for k in typed.rows("box")},
            corners={typed.name(f"corner-{k}"): typed.needed_place(f"corner-{k}-at") for k in typed.rows("corner")},
            members_in=tuple(typed.member(f"member-{k}") for k in typed.rows("member")),
            members_out=form.several("frame-out"),
        )
    except ValidationError as fault:
        first = fault.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise Refused(f"{where}: {first['msg']}", field=where, value=str(first["input"])[:40]) from None


class _SettingTyped:
    """The rows of a setting's form, each under the name of its row."""

    def __init__(self, form: Form, now: Setting | None, gear: tuple[Gear, ...]) -> None:
        self._form, self._pieces = form, {piece.name: piece for piece in gear}
        placed: tuple[PlacedTower | PlacedHook | PlacedAnchor | Machine | PlacedTie, ...] = (
            (*now.towers, *now.hooks, *now.anchors, *now.machines, *now.ties) if now else ()
        )
        self._before = {anchor.id: anchor.piece for anchor in placed}

    def rows(self, kind: str) -> list[int]:
        """Return the rows of a kind that have a name."""
        return [k for k in range(_MOST_ROWS) if self.name(f"{kind}-{k}")]

    def name(self, row: str) -> str:
        """Return the name of a row."""
        return self._form.text(f"{row}-id").strip()

    def code(self, row: str) -> str:
        """Return the code of the point of a row."""
        return self._form.text(f"{row}-code").strip()

    def figure(self, field: str) -> float:
        """Return a figure that is needed."""
        value = number_of(self._form.text(field), field)
        if value is None:
            raise Refused("This figure is needed.", field=field, value="")
        return value

    def place_of(self, *fields: str) -> Row3:
        """Return a place that is typed in three fields."""
        x, y, z = (self.figure(field) for field in fields)
        return x, y, z

    def newtons(self, field: str) -> float | None:
        """Return a force that is typed in kN."""
        value = number_of(self._form.text(field), field)
        if value is not None and value <= 0:
            raise Refused(
                "What it takes should be above 0 kN. Leave it empty where nobody knows.", field=field, value=value
            )
        return None if value is None else 1000 * value

    def place(self, field: str) -> Row3 | None:
        """Return a place that is typed in one field, mm."""
        figures = self._form.text(field).replace(";", " ").split()
        if not figures:
            return None
        if len(figures) != 3:
            raise Refused("A place is three numbers: length, left, height in mm, with spaces between.", field=field)
        x, y, z = (number_of(figure, field) or 0.0 for figure in figures)
        return x, y, z

    def needed_place(self, field: str) -> Row3:
        """Return a place that has to be typed, mm."""
        place = self.place(field)
        if place is None:
            raise Refused("Where is it? Length, left and height in mm, with spaces between.", field=field, value="")
        return place

    def piece(self, row: str) -> str:
        """Return the piece of the rig that is chosen for a row."""
        name = self._form.text(f"{row}-piece").strip()
        if name and name not in self._pieces:
            raise Refused("There is no such piece in the rig.", field=f"{row}-piece", value=name[:40])
        return name

    def takes(self, row: str) -> float | None:
        """Return what a row takes, N: as typed, or as a piece that was chosen anew."""
        piece, typed = self.piece(row), self.newtons(f"{row}-takes")
        anew = piece and self._before.get(self.name(row)) != piece
        return self._pieces[piece].capacity_n if piece and (anew or typed is None) else typed

    def ram(self, row: str) -> float | None:
        """Return the area of a tower's ram, mm²: as typed, or as its piece's."""
        piece = self.piece(row)
        typed = number_of(self._form.text(f"{row}-area"), f"{row}-area")
        return typed if typed is not None or not piece else self._pieces[piece].area_mm2

    def tower(self, row: str) -> PlacedTower:
        """Return a tower."""
        return PlacedTower(
            id=self.name(row),
            at=(self.figure(f"{row}-x"), self.figure(f"{row}-y")),
            z=(self.figure(f"{row}-low"), self.figure(f"{row}-high")),
            capacity_n=self.takes(row),
            ram_area_mm2=self.ram(row),
            piece=self.piece(row),
        )

    def hook(self, row: str) -> PlacedHook:
        """Return a hook."""
        kind = cast(Any, self._form.text(f"{row}-kind") or "clamp")
        return PlacedHook(
            id=self.name(row), code=self.code(row), kind=kind, capacity_n=self.takes(row), piece=self.piece(row)
        )

    def anchor(self, row: str) -> PlacedAnchor:
        """Return an anchor."""
        return PlacedAnchor(
            id=self.name(row),
            code=self.code(row),
            kind=cast(Any, self._form.text(f"{row}-kind") or "clamp"),
            toward=self.place(f"{row}-toward"),
            stiffness=self.figure(f"{row}-stiff"),
            capacity_n=self.takes(row),
            piece=self.piece(row),
        )

    def machine(self, row: str) -> Machine:
        """Return a jack or a puller."""
        return Machine(
            id=self.name(row),
            bears_on=self.code(row),
            pushes=self._form.text(f"{row}-how") != "draws",
            capacity_n=self.takes(row),
            piece=self.piece(row),
            bears_capacity_n=self.newtons(f"{row}-bears"),
        )

    def tie(self, row: str) -> PlacedTie:
        """Return a tie between two points."""
        ends = self._form.text(f"{row}-between").split()
        if len(ends) != 2:
            raise Refused(
                "Between which two points? Their codes, with a space between.",
                field=f"{row}-between",
                value=self._form.text(f"{row}-between")[:40],
            )
        return PlacedTie(
            id=self.name(row), between=(ends[0], ends[1]), capacity_n=self.takes(row), piece=self.piece(row)
        )

    def box(self, row: str) -> Box:
        """Return the section of a member."""
        return Box(
            height_mm=self.figure(f"{row}-h"),
            width_mm=self.figure(f"{row}-w"),
            wall_mm=self.figure(f"{row}-t"),
            yield_mpa=self.figure(f"{row}-y"),
        )

    def member(self, row: str) -> ExtraMember:
        """Return a member that the sheet does not make: from one point or corner to another."""
        ends = self._form.text(f"{row}-id").split()
        if len(ends) != 2:
            raise Refused(
                "From where to where? Two points or corners, with a space between.",
                field=f"{row}-id",
                value=self._form.text(f"{row}-id")[:40],
            )
        return ExtraMember(i=ends[0], j=ends[1], section=self._form.text(f"{row}-section").strip())
