"""Every code that a rule can give has its words, in both units and in any time zone; and nothing hangs on how it is worded."""

import ast
import re
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

import fairsquare
from fairsquare.core.errors import Refused
from fairsquare.core.said import Said, say
from fairsquare.files.records import check_record, sealed
from fairsquare.job.missing import Missing
from fairsquare.job.release.holds import job_state, may_sign
from fairsquare.job.release.record import make_record
from fairsquare.words import tell as told_words
from fairsquare.words.lengths import in_units
from fairsquare.words.moves import moved_words
from fairsquare.words.said import METRIC, Reader
from fairsquare.words.tell import TABLE, fault_told, tell
from tests.job.facts import facts, who
from tests.job.test_every_cause import CASES, lacks

PACKAGE = Path(fairsquare.__file__).parent
INCHES = Reader("in", ZoneInfo("Atlantic/Faroe"))
METRES = re.compile(r"\bmm\b")


def kinds() -> set[str]:
    """Every kind that is written out in the code; those that are put together end with a star."""
    found = set()
    for file in (*(PACKAGE / "job").rglob("*.py"), *(PACKAGE / "actions").rglob("*.py")):
        for call in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            named = isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id in ("say", "lacks")
            if named and call.args:
                found |= set(_written(call.args[0]))
    return found


def _written(kind: ast.expr) -> list[str]:
    if isinstance(kind, ast.Constant):
        return [kind.value]
    if isinstance(kind, ast.IfExp):
        return [*_written(kind.body), *_written(kind.orelse)]
    if isinstance(kind, ast.JoinedStr) and isinstance(kind.values[0], ast.Constant):
        return [f"{kind.values[0].value}*"]
    return []


def every_said() -> list[Said]:
    """Everything that hold points say in the jobs of tests/job/test_every_cause.py: missing, evidence, titles, what to do."""
    found = []
    for case in CASES:
        for job in (case.caused(), case.cured()):
            for hold in job_state(job).holds:
                missing = [*hold.missing, *(one for demand in hold.demands for one in demand.missing)]
                found += [one for each in missing for one in (each.said, each.todo)]
                found += [one for demand in hold.demands for one in (demand.title, demand.evidence, demand.todo)]
                found += [*hold.reopened, *(may_sign(hold, role) for role in ("lead", "apprentice"))]
    return [one for one in found if one is not None]


def test_every_kind_has_its_words() -> None:
    written = kinds()
    assert len(written) > 120
    without = {one for one in written if not one.endswith("*") and one not in TABLE}
    begun = {one for one in written if one.endswith("*") and not any(known.startswith(one[:-1]) for known in TABLE)}
    assert without | begun == set()


def test_what_is_told_has_every_value_and_no_metres_for_who_reads_inches() -> None:
    for said in every_said():
        in_mm, in_inches = tell(said), tell(said, INCHES)
        assert in_mm, said
        assert said.kind in TABLE
        assert not re.search(r"\{\w+", in_mm + in_inches), (said, in_mm)
        if "told" not in said.model_dump_json():
            assert not METRES.search(in_inches), in_inches


@pytest.mark.parametrize(
    ("said", "in_mm", "in_inches"),
    [
        (say("spans.by", a="A", b="B", apart_mm=-3.175), "A to B by −3.2 mm", "A to B by −1/8 in"),
        (say("spans.apart", a="A", b="B", apart_mm=3.175), "A to B +3.2 mm", "A to B +1/8 in"),
        (say("spans.apart", a="A", b="B", apart_mm=0.01), "A to B 0.0 mm", "A to B 0 in"),
        (say("points.moved", move="a hinge", last_at="2026-06-01T10:00:00.000000Z"), "10:00 UTC", "2026-06-01 11:00"),
        (say("points.unread", codes=["A"]), "1 point not read: A.", "1 point not read: A."),
        (
            say("points.unread", codes=list("ABCDEFGHIJ")),
            "10 points not read: A, B, C, D, E, F, G, H and 2 more.",
            "10",
        ),
        (say("part.faults", part="rail", faults=[say("part.layers"), say("part.identity")]), "counted; the number", ""),
    ],
)
def test_lengths_and_times_are_the_readers(said, in_mm, in_inches) -> None:
    assert in_mm in tell(said)
    assert in_inches in tell(said, INCHES)


def test_what_a_person_wrote_is_not_taken_for_a_value() -> None:
    said = say("setup.void", number=1, cause="{number} {nothing:} {")
    assert tell(said) == "Set-up 1 is void: {number} {nothing:} {. Make a new one."


def test_a_kind_without_words_is_told_by_its_code() -> None:
    assert tell(say("points.gone_missing")) == "points: gone missing"
    assert (tell("as it is"), tell(None)) == ("as it is", "")


def test_another_wording_changes_no_record(monkeypatch) -> None:
    def made() -> str:
        return sealed(make_record(facts(), {"vehicle": "Dunlin"}, who(59), software="t", workshop="t"))[0]

    before = made()
    for kind in list(TABLE):
        monkeypatch.setitem(told_words.TABLE, kind, "in other words")
    assert tell(say("not_signed", hold="made_safe"), METRIC) == "in other words"
    assert made() == before
    assert check_record(before.encode()).good


def test_a_record_holds_no_sentence_of_ours() -> None:
    case = next(one for one in CASES if one.hold == "fit_accepted")
    record = make_record(case.caused(), {"vehicle": "Dunlin"}, who(59), software="t", workshop="t")
    results = record.results.model_dump(mode="json")
    assert not list(_named(results, {"words", "detail", "title", "told"}))
    assert any(hold.missing for hold in record.results.holds)
    assert isinstance(lacks(case.caused(), case.hold)[0], Missing)


def _named(value, names):
    if isinstance(value, dict):
        yield from (key for key in value if key in names)
        for one in value.values():
            yield from _named(one, names)
    if isinstance(value, list):
        for one in value:
            yield from _named(one, names)


def told_in_mm() -> dict[str, str]:
    """Sentences of the code with a length in them of which one figure has no unit of its own, by where they stand."""
    found = {}
    for file in (one for room in ("core", "job", "actions", "web") for one in (PACKAGE / room).rglob("*.py")):
        for sentence in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(sentence, ast.JoinedStr) and (bare := _bare_figure(sentence)):
                found[f"{file.relative_to(PACKAGE)}:{sentence.lineno}"] = bare
    return found


def _bare_figure(sentence: ast.JoinedStr) -> str:
    words = [one.value if isinstance(one, ast.Constant) else None for one in sentence.values]
    if not any(one and re.search(r"^ mm\b(?![²³/])", one) for one in words):
        return ""
    for at, part in enumerate(sentence.values):
        spec = part.format_spec.values if isinstance(part, ast.FormattedValue) and part.format_spec else []
        ends = next((one for one in words[at + 1 : at + 2] if one), "")
        if any(isinstance(one, ast.Constant) and one.value[-1] in "gf" for one in spec) and not ends.startswith(UNITS):
            return ast.unparse(sentence)
    return ""


UNITS = (" mm", "°", " %", " kN", " N", " kg", " J", " s", " times", " kJ")


def test_each_length_of_a_sentence_has_its_unit_so_that_it_can_be_told_in_inches() -> None:
    assert told_in_mm() == {}


@pytest.mark.parametrize(
    ("sentence", "in_inches"),
    [
        ("rail reaches from 120 mm to 482.6 mm.", "rail reaches from 4 23/32 in to 19 in."),
        ("“14 mm” is no gap: it is over 1000 mm.", "“14 mm” is no gap: it is over 39 3/8 in."),
        ("walls of 1.2 mm, known to ± 0.25 mm, −3 mm off", "walls of 0.047 in, known to ± 0.010 in, −1/8 in off"),
        ("at 8 mm/s over 12 mm²", "at 8 mm/s over 12 mm²"),
        ("nothing to tell", "nothing to tell"),
    ],
)
def test_a_sentence_of_a_calculation_is_told_in_inches(sentence, in_inches) -> None:
    assert in_units(sentence, "in") == in_inches
    assert in_units(sentence, "mm") == sentence


def test_a_fault_is_told_in_the_units_of_its_reader() -> None:
    fault = fault_told(Refused("The tolerance should be above 0 mm, up to 100 mm.", field="tolerance"), INCHES)
    assert fault.title == "The tolerance should be above 0 in, up to 3 15/16 in."


@pytest.mark.parametrize(
    ("words", "in_inches"),
    [
        ("C1L slipped 3.2 mm in pull 2: the vehicle moved", "C1L slipped 1/8 in in pull 2: the vehicle moved"),
        ("left sill, outer: final cut at 420 mm", "left sill, outer: final cut at 16 17/32 in"),
        ("lifted the front by 20 mm with the jack", "lifted the front by 20 mm with the jack"),
    ],
)
def test_a_move_that_was_noted_by_itself_is_told_in_inches_and_what_a_person_wrote_stays(words, in_inches) -> None:
    assert moved_words(words, "in") == in_inches
    assert moved_words(words, "mm") == words
