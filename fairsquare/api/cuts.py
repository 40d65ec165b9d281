"""The API of the cuts: sections, where they are cut, their lines and welds, what is ticked off and cut, templates as files."""

from typing import Annotated

from fastapi import APIRouter, Response
from pydantic import Field

from fairsquare.actions import cutting
from fairsquare.actions.cutting import section_of
from fairsquare.actions.desk import JobView
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, KeyOnly
from fairsquare.api.told import MissingShown, Told, missing_shown
from fairsquare.core.cut.judge import StripPlaced
from fairsquare.core.cut.lines import LayerLines, Whose
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, WeldsSaid
from fairsquare.core.cut.working import mapped_welds
from fairsquare.core.model import Many, Model
from fairsquare.job.cut.job import SIDES, SectionState, section_states
from fairsquare.job.cut_gate import final_waits
from fairsquare.job.facts.cuts import CutKind, CutMadeFact, SectionFact, WeldTickFact
from fairsquare.words.tell import tell

router = APIRouter(prefix="/api/v1")


class BeginSection(KeyOnly):
    """Plan how a member is replaced."""

    member: str
    how: SectionHow


class KeepStrip(KeyOnly):
    """Keep a strip; `version` is the one it takes the place of, 0 for the first."""

    strip: StripSaid
    version: int = 0


class PutCuts(KeyOnly):
    """Put cuts, by layer; layers that are not named go to the best place. `version` is that of the strip."""

    cuts: dict[str, float]
    reason: str = ""
    version: int


class KeepLines(KeyOnly):
    """Keep how the lines are drawn and sawn."""

    lines: LinesSaid
    version: int = 0


class KeepWelds(KeyOnly):
    """Keep the welds of a section."""

    welds: WeldsSaid
    version: int = 0


class TickWeld(KeyOnly):
    """Tick a weld off on a side, or take its tick back."""

    whose: Whose
    weld: Annotated[str, Field(min_length=1, max_length=40)]
    done: bool = True


class MakeCut(KeyOnly):
    """Record a cut. An access cut says where; the final line is cut where it is planned."""

    layer: str
    kind: CutKind
    at_mm: float | None = None
    tool: str
    words: str = ""
    reason: str = ""


class StepShown(Model):
    """What is done to a weld on a side, in working order."""

    weld: str
    mark: str
    side: str
    words: str
    never: Many[str]
    done: bool


class SectionShown(Model):
    """A section as it stands: what was said, where it is cut, its lines, what its final lines wait for, welds in working order."""

    section: SectionFact
    versions: dict[str, int]
    strip: StripSaid | None
    placed: StripPlaced | None
    lines: LinesSaid
    drawn: Many[LayerLines]
    waits: dict[str, Many[MissingShown]]
    welds: WeldsSaid | None
    steps: dict[Whose, Many[StepShown]]
    impossible: dict[str, str]
    cuts: Many[CutMadeFact]
    ticks: Many[WeldTickFact]
    wanting: Many[Told]


@router.get("/jobs/{number}/sections", tags=["cuts"])
def show_sections(number: str, desk: At, person: By) -> list[SectionShown]:
    """Return the sections of a job."""
    del person
    view = desk.view(number)
    return [_shown(view, state) for state in section_states(view.facts)]


@router.post("/jobs/{number}/sections", tags=["cuts"], status_code=201)
def begin(number: str, sent: BeginSection, desk: At, person: By) -> Given:
    """Begin to plan how a member is replaced; the id is the section's number."""
    return Given(ids=(cutting.begin(desk, person, sent.request_key, number, sent.member, sent.how),))


@router.get("/jobs/{number}/sections/{section}", tags=["cuts"])
def show_section(number: str, section: int, desk: At, person: By) -> SectionShown:
    """Return a section."""
    del person
    view = desk.view(number)
    return _shown(view, section_of(view, section))


@router.put("/jobs/{number}/sections/{section}/strip", tags=["cuts"])
def keep_strip(number: str, section: int, sent: KeepStrip, desk: At, person: By) -> Given:
    """Keep a strip as described."""
    kept = cutting.keep_strip(desk, person, sent.request_key, number, section, sent.strip, sent.version)
    return Given(version=kept)


@router.put("/jobs/{number}/sections/{section}/cuts", tags=["cuts"])
def put_cuts(number: str, section: int, sent: PutCuts, desk: At, person: By) -> Given:
    """Put cuts where a person wants them."""
    kept = cutting.put_cuts(desk, person, sent.request_key, number, section, sent.cuts, sent.reason, sent.version)
    return Given(version=kept)


@router.put("/jobs/{number}/sections/{section}/lines", tags=["cuts"])
def keep_lines(number: str, section: int, sent: KeepLines, desk: At, person: By) -> Given:
    """Keep how the lines are drawn and sawn."""
    kept = cutting.keep_lines(desk, person, sent.request_key, number, section, sent.lines, sent.version)
    return Given(version=kept)


@router.put("/jobs/{number}/sections/{section}/welds", tags=["cuts"])
def keep_welds(number: str, section: int, sent: KeepWelds, desk: At, person: By) -> Given:
    """Keep the welds of a section."""
    kept = cutting.keep_welds(desk, person, sent.request_key, number, section, sent.welds, sent.version)
    return Given(version=kept)


@router.post("/jobs/{number}/sections/{section}/ticks", tags=["cuts"])
def tick(number: str, section: int, sent: TickWeld, desk: At, person: By) -> Given:
    """Tick a weld off, or take its tick back."""
    cutting.tick(desk, person, sent.request_key, number, section, sent.whose, sent.weld, done=sent.done)
    return Given()


@router.post("/jobs/{number}/sections/{section}/made", tags=["cuts"], status_code=201)
def make_cut(number: str, section: int, sent: MakeCut, desk: At, person: By) -> Given:
    """Record a cut that is made."""
    cutting.make_cut(
        desk,
        person,
        sent.request_key,
        number,
        section,
        sent.layer,
        sent.kind,
        sent.at_mm,
        sent.tool,
        sent.words,
        sent.reason,
    )
    return Given()


@router.get("/jobs/{number}/sections/{section}/template.{kind}", tags=["cuts"])
def template(
    number: str, section: int, kind: str, layer: str, desk: At, person: By, whose: Whose = "vehicle", reach: str = "cut"
) -> Response:
    """Return the template of a layer as `svg` or `dxf`; `reach=datum`: all the way from the datum."""
    del person
    media, body = cutting.template_file(section_of(desk.view(number), section), kind, layer, whose, reach)
    return Response(body, media_type=media)


def _shown(view: JobView, state: SectionState) -> SectionShown:
    cut = state.strip.cut if state.strip else ()
    return SectionShown(
        section=state.fact,
        versions={topic: said.version for topic, said in state.said.items()},
        strip=state.strip,
        placed=state.placed,
        lines=state.lines,
        drawn=state.drawn,
        waits={
            layer.id: tuple(
                missing_shown(final_wait) for final_wait in final_waits(view.facts, view.state, state, layer.id)
            )
            for layer in cut
        },
        welds=state.welds,
        steps={whose: _steps(state, whose) for whose in SIDES},
        impossible={weld.said.id: weld.fault for weld in mapped_welds(state.welds) if weld.fault}
        if state.welds
        else {},
        cuts=state.cuts,
        ticks=tuple(state.ticks.values()),
        wanting=tuple(Told(words=tell(lack), said=lack) for lack in state.wanting),
    )


def _steps(state: SectionState, whose: Whose) -> tuple[StepShown, ...]:
    steps = (weld.step(whose) for weld in state.to_do(whose))
    return tuple(
        StepShown(
            weld=step.weld,
            mark=step.mark,
            side=step.side,
            words=step.words,
            never=step.never,
            done=state.is_done(whose, step.weld),
        )
        for step in steps
    )
