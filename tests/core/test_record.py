"""The record: its figures follow from its readings, and any change of it is found, with where."""

import json

import pytest
import rfc8785
from hypothesis import given, settings
from hypothesis import strategies as st

from fairsquare.core.release.record import JobRecord, make_record, recompute
from fairsquare.files.records import check_record, record_as_csv, sealed
from tests.core.facts import facts, reading, signed, who

VEHICLE = {"vehicle": "Dunlin", "construction": "unibody", "vin": "", "hit_where": "front", "hit_from_deg": 45}


def record() -> JobRecord:
    job = facts(readings=(*facts().readings, reading(50, "F5R", moved=(0.4, 0.0, 0.0))))
    job = signed(job, "made_safe", "setup_accepted")
    return make_record(job, VEHICLE, who(59), software="test", workshop="a test")


BODY, DIGEST = sealed(record())


def test_a_record_is_whole_and_follows() -> None:
    check = check_record(BODY.encode())
    assert check.good
    assert check.sha256 == DIGEST
    assert check.findings == ()
    assert recompute(record()) == ()


def test_the_canonical_form_is_rfc_8785() -> None:
    assert rfc8785.dumps(json.loads(BODY)).decode() == BODY
    assert "\n" not in BODY


@pytest.mark.parametrize(
    ("change", "where"),
    [
        (lambda r: r["readings"][7]["xyz"].__setitem__(0, 1.5), "/readings/7"),
        (lambda r: r["results"]["points"]["F5R"]["after"].__setitem__("state", "fairer"), "/results/points/F5R"),
        (lambda r: r["signatures"][0]["by"].__setitem__("name", "Somebody Else"), "/signatures/0"),
        (lambda r: r["sheet"]["points"][0]["xyz"].__setitem__(1, 0.0), "/sheet"),
        (lambda r: r.__setitem__("made", {**r["made"], "at": "2020"}), "/made"),
        (lambda r: r["readings"].pop(), "missing from the file"),
        (lambda r: r["integrity"].__setitem__("sha256", "0" * 64), "/integrity/sha256"),
    ],
)
def test_a_change_is_reported_with_where(change, where) -> None:
    loaded = json.loads(BODY)
    change(loaded)
    check = check_record(rfc8785.dumps(loaded))
    assert not check.whole
    assert any(where in finding for finding in check.findings), check.findings


def test_a_figure_that_does_not_follow_is_found_even_when_the_seal_is_made_anew() -> None:
    forged = record()
    loaded = forged.model_dump(mode="json")
    loaded["results"]["points"]["F5R"]["after"]["deviation"][0] += 0.5
    body, _ = sealed(JobRecord.model_validate_json(json.dumps(loaded)))
    check = check_record(body.encode())
    assert check.whole
    assert not check.follows
    assert any("/results/points/F5R/after/deviation/0" in finding for finding in check.findings)


@settings(max_examples=100, deadline=None)
@given(st.integers(0, len(BODY.encode()) - 1), st.integers(1, 255))
def test_any_changed_byte_is_found(at, by) -> None:
    content = bytearray(BODY.encode())
    content[at] ^= by
    check = check_record(bytes(content))
    assert not check.good
    assert check.findings


def test_white_space_is_not_the_canonical_form() -> None:
    check = check_record(json.dumps(json.loads(BODY), indent=1).encode())
    assert not check.whole
    assert "canonical form" in check.findings[0]
    assert check.findings[0].startswith("Byte ")


def test_other_files_are_no_records() -> None:
    assert "no JSON" in check_record(b"\x89PNG").findings[0]
    assert "no record" in check_record(b"{}").findings[0]
    assert "no record" in check_record(b"[1]").findings[0]


def test_before_and_after_stand_side_by_side() -> None:
    lines = record_as_csv(record()).splitlines()
    assert lines[0].startswith("code,sheet_length_mm")
    assert len(lines) == 21
    assert any(line.startswith("F5R,") and ",fair," in line for line in lines)
