"""The hours that follow from a job, what people say of them, and what it waits for."""

import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.plan.said import HoursSaid, OperationSaid, PartSaid, check_hours
from fairsquare.core.who import Who
from fairsquare.job.facts.finishing import ClockFact
from fairsquare.job.facts.hours import HoursFact, WaitFact, WorkFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.supplements import SupplementAnswerFact, SupplementFact, SupplementLineFact
from fairsquare.job.plan.operations import _said_as, job_work, supplement_words
from fairsquare.job.waiting import waiting
from fairsquare.stand_ins.vehicles import DUNLIN

ANNA = Who(name="Anna", role="technician", at="2026-11-02T08:00:00.000000Z")


def facts(said=None, **other):
    hours = HoursFact(version=1, hours=said, by=ANNA) if said else None
    return JobFacts(number="SL-1", sheet=None, sheet_version=None, hours=hours, **other)


def worked(operation, since, until, name="Anna", id=1):
    by = Who(name=name, role="technician", at=f"2026-11-02T{since}:00.000000Z")
    return WorkFact(id=id, operation=operation, by=by, ended_at=until and f"2026-11-02T{until}:00.000000Z")


WING = PartSaid(name="wing", off_h=0.5, on_h=1.0, trials=1, sold_h=1.0)
SAID = HoursSaid(
    operations=(
        OperationSaid(name="Measure", hours=2.0, sold_h=1.5),
        OperationSaid(name="Read and decide", left_out=True),
        OperationSaid(name="Clean", hours=0.5, needs_off=("wing",)),
    ),
    parts=(WING,),
    promised="2026-11-09",
)


def test_every_job_has_its_operations_and_what_people_say_comes_before_what_is_usual():
    usual = job_work(facts())
    assert [row.name for row in usual.rows] == [
        "Make it safe",
        "Set up and clamp",
        "Measure",
        "Read and decide",
        "Prove and hand over",
    ]
    said = job_work(facts(SAID))
    assert said.row("Measure").hours == 2.0
    assert said.row("Read and decide") is None
    assert said.row("Clean").why == "added by hand"
    wing = said.row("wing")
    assert wing.hours == pytest.approx(2 * 0.5 + 2 * 1.0), "off and on, and once more for the trial fit"
    assert wing.why == "Clean"


def test_a_part_that_nothing_needs_off_counts_nothing():
    assert job_work(facts(HoursSaid(parts=(WING,)))).row("wing") is None


def test_sold_against_worked_by_person_and_a_running_clock_counts_nothing_yet():
    work = job_work(
        facts(
            SAID,
            worked=(
                worked("Measure", "08:00", "09:30"),
                worked("Measure", "10:00", "10:30", "Bo", 2),
                worked("Clean", "11:00", None, "Bo", 3),
            ),
        )
    )
    measured = work.row("Measure")
    assert measured.worked_h == pytest.approx(2.0)
    assert dict(measured.by) == pytest.approx({"Anna": 1.5, "Bo": 0.5})
    assert work.row("Clean").worked_h is None
    assert (work.found.sold_h, work.found.worked_h) == pytest.approx((1.5, 2.0)), "over what has both"


def test_work_on_what_is_no_longer_an_operation_is_not_lost():
    assert job_work(facts(worked=(worked("Polish", "08:00", "09:00"),))).row("Polish").worked_h == pytest.approx(1.0)


def line(id, words, hours):
    return SupplementLineFact(id=id, station="hours", words=words, hours=hours, parts="", amount_cents=0, by=ANNA)


def test_gaps_become_lines_and_are_closed_by_the_payers_word():
    before = job_work(facts(SAID))
    gaps = {row.name: row.gap_h for row in before.gaps}
    assert gaps == pytest.approx(
        {
            "Make it safe": 0.5,
            "Set up and clamp": 3.0,
            "Measure": 0.5,
            "Clean": 0.5,
            "Prove and hand over": 1.0,
            "wing": 2.0,
        }
    )
    words = supplement_words(before.row("wing"))
    assert words == "wing: off and on again, 1 trial fit, for Clean"
    asked = facts(SAID, supplement_lines=(line(1, words, 2.0),))
    assert "wing" not in {row.name for row in job_work(asked).gaps}
    answer = SupplementAnswerFact(
        id=1, line=1, supplement=1, answer="approved", words="", named="payer", at=ANNA.at, by=None
    )
    sent = SupplementFact(id=1, number=1, payer="payer", lines=(1,), expires_at="2026-12-01T00:00:00.000000Z", by=ANNA)
    approved = job_work(asked.model_copy(update={"supplements": (sent,), "supplement_answers": (answer,)}))
    assert approved.row("wing").all_sold_h == pytest.approx(3.0)
    assert approved.row("wing").gap_h == 0


def test_a_payer_is_told_of_a_pull_by_the_member_and_the_line_is_known_again():
    job = facts(SAID).model_copy(update={"sheet": DUNLIN.sheet})
    from_pull = job_work(job).row("Measure")._replace(name="Pull 2: at F4R, at F5R", sold_h=None)
    words = supplement_words(from_pull, DUNLIN.sheet)
    assert words == "Straightening on the rack, pull 2, right front rail: not in the estimate"
    assert words.startswith(_said_as(job, from_pull.name))


@pytest.mark.parametrize(
    ("said", "field"),
    [
        (HoursSaid(operations=(OperationSaid(name="a"), OperationSaid(name="A"))), "operation-1-name"),
        (HoursSaid(operations=(OperationSaid(name="a", needs_off=("wing",)),)), "operation-0-off"),
        (HoursSaid(parts=(WING, WING)), "part-1-name"),
        (HoursSaid(operations=(OperationSaid(name="wing"),), parts=(WING,)), "part-0-name"),
        (HoursSaid(parts=(WING.model_copy(update={"under": ("lamp",)}),)), "part-0-under"),
        (HoursSaid(parts=(WING.model_copy(update={"under": ("wing",)}),)), "part-0-under"),
    ],
)
def test_hours_that_make_no_sense_name_their_field(said, field):
    with pytest.raises(Refused) as fault:
        check_hours(said)
    assert fault.value.field == field


def wait(words, due, station="", id=1, over=None):
    return WaitFact(
        id=id, kind="part", words=words, asked_of="Ines", due_at=due, station=station, by=ANNA, said_by=ANNA, over=over
    )


def test_what_is_due_first_comes_first_and_what_came_is_waited_for_no_longer():
    found = waiting(
        facts(
            waits=(
                wait("node", "", id=1),
                wait("glass", "2026-11-04T10:00:00.000000Z", id=2),
                wait("lamp", "2026-11-03T10:00:00.000000Z", id=3, over=ANNA),
            )
        )
    )
    assert [one.words for one in found] == ["glass", "node"]
    assert found[0].overdue("2026-11-05T00:00:00.000000Z")
    assert not found[1].overdue("2099-01-01T00:00:00.000000Z"), "nobody knows is never overdue"


def test_a_wait_holds_up_its_station_and_what_follows():
    (node,) = waiting(facts(waits=(wait("node", "", "cuts"),)))
    assert not node.holds_up("board")
    assert node.holds_up("cuts")
    assert node.holds_up("weld")
    (at_once,) = waiting(facts(waits=(wait("slip", ""),)))
    assert at_once.holds_up("take-in")


def test_foam_that_sets_and_answers_that_are_out_are_waited_for_without_being_noted():
    clock = ClockFact(id=1, kind="cure", product="foam", label="foam sets", minutes=90, by=ANNA)
    sent = SupplementFact(
        id=1, number=1, payer="The mutual", lines=(1,), expires_at="2026-12-01T00:00:00.000000Z", by=ANNA
    )
    found = waiting(facts(clocks=(clock,), supplement_lines=(line(1, "inner torn", 2.0),), supplements=(sent,)))
    assert [(one.kind, one.due_at[:16]) for one in found] == [
        ("foam", "2026-11-02T09:30"),
        ("approval", ""),
    ]
    assert found[1].asked_of == "The mutual"
