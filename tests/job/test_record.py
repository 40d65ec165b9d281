"""The record: its figures follow from its readings, and any change of it is found, with where."""

import hashlib
import json

import numpy as np
import pytest
import rfc8785
from hypothesis import given, settings
from hypothesis import strategies as st

from fairsquare.files.chain import chain_findings
from fairsquare.files.records import check_record, record_archive, record_as_csv, sealed
from fairsquare.job.facts.intake import PhotoFact
from fairsquare.job.measure.ageing import aged
from fairsquare.job.release.record import JobRecord, make_record, recompute
from tests.job.facts import facts, movement, reading, signed, who

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
        (lambda r: r["readings"].pop(), "missing: readings 50"),
        (lambda r: r["readings"].insert(3, r["readings"].pop(5)), "moved: readings"),
        (lambda r: r["gaps"].append({**r["gaps"][0], "id": 77}), "added to the record: gaps 77"),
        (lambda r: r["integrity"]["chain"].reverse(), "out of order from entry 1 on"),
        (lambda r: r["integrity"].__setitem__("previous", "f" * 64), "the chain is broken at"),
        (lambda r: r["integrity"].__setitem__("sha256", "0" * 64), "/integrity/sha256"),
    ],
)
def test_a_change_is_reported_with_where(change, where) -> None:
    loaded = json.loads(BODY)
    change(loaded)
    check = check_record(rfc8785.dumps(loaded))
    assert not check.whole
    assert any(where in finding for finding in check.findings), check.findings


def test_five_hundred_random_changes_are_found_and_the_first_of_them_is_named() -> None:
    """Each changes one thing: a value, a row taken out, put in twice or moved. What is named first is where that was done."""
    random = np.random.default_rng(7)
    for _ in range(500):
        loaded = json.loads(BODY)
        integrity = loaded.pop("integrity")
        where = changed_at_random(loaded, random)
        found = chain_findings(loaded, integrity["chain"], integrity["previous"])
        assert found, where
        assert found[0].startswith(where), (where, found[:3])


def changed_at_random(loaded: dict, random: np.random.Generator) -> str:
    """Change one thing and return where the first finding has to be."""
    lists = [name for name, value in loaded.items() if isinstance(value, list) and len(value) > 2]
    kind = random.integers(0, 4)
    if kind:
        name = lists[random.integers(0, len(lists))]
        rows, k = loaded[name], int(random.integers(0, len(loaded[name]) - 1))
        if kind == 1:
            del rows[k]
        elif kind == 2:
            rows.insert(k, json.loads(json.dumps(rows[k])))
        else:
            rows[k], rows[k + 1] = rows[k + 1], rows[k]
        return f"/{name}/"
    node, path = loaded, ""
    while True:
        keys = list(node) if isinstance(node, dict) else list(range(len(node)))
        key = keys[random.integers(0, len(keys))]
        child = node[key]
        path += f"/{key}"
        if not isinstance(child, dict | list) or not child:
            node[key] = {"changed": True} if not isinstance(child, str) else child + "x"
            parts = path.split("/")
            deep = 4 if parts[1:3] == ["results", "points"] else 3 if isinstance(loaded[parts[1]], list) else 2
            return "/".join(parts[:deep])
        node = child


def test_the_record_before_is_what_the_first_link_is_bound_to() -> None:
    first, digest = sealed(record())
    second, same = sealed(record(), digest)
    assert (digest, json.loads(second)["integrity"]["previous"]) == (same, digest)
    assert check_record(second.encode()).good
    links = [json.loads(body)["integrity"]["chain"] for body in (first, second)]
    assert [one["own"] for one in links[0]] == [one["own"] for one in links[1]]
    assert not {one["sha256"] for one in links[0]} & {one["sha256"] for one in links[1]}


def test_an_archive_covers_the_photos() -> None:
    shot = PhotoFact(
        id=3,
        about="job",
        about_id=None,
        name="a.jpg",
        words="",
        width=1,
        height=1,
        sha256=hashlib.sha256(b"picture").hexdigest(),
        by=who(12),
    )
    body, _ = sealed(make_record(facts(photos=(shot,)), VEHICLE, who(59), software="test", workshop="a test"))
    assert check_record(record_archive(body, {3: b"picture"})).good
    for photos, words in (
        ({}, "photos/3.jpg: missing"),
        ({3: b"another"}, "not the photo of the record"),
        ({3: b"picture", 4: b"more"}, "photos/4.jpg: added"),
    ):
        check = check_record(record_archive(body, photos))
        assert not check.good
        assert words in " ".join(check.findings)
    assert not check_record(record_archive(body, {3: b"picture"})[:-40]).good


def test_a_record_of_another_version_is_told_so() -> None:
    loaded = json.loads(BODY)
    loaded["format"] = "fairsquare-record/6"
    (words,) = check_record(rfc8785.dumps(loaded)).findings
    assert "this record is of version 6, and this Fair Square checks versions 7 to 10" in words


def test_a_figure_that_does_not_follow_is_found_even_when_the_seal_is_made_anew() -> None:
    forged = record()
    loaded = forged.model_dump(mode="json")
    loaded["results"]["points"]["F5R"]["after"]["deviation"][0] += 0.5
    body, _ = sealed(JobRecord.model_validate_json(json.dumps(loaded)))
    check = check_record(body.encode())
    assert check.whole
    assert not check.follows
    assert any("/results/points/F5R/after/deviation/0" in finding for finding in check.findings)


def test_a_reading_that_is_said_to_be_fresh_and_is_not_is_found() -> None:
    job = facts(movements=(movement("hinge"),))
    forged = make_record(job, VEHICLE, who(59), software="test", workshop="a test")
    where = [one.where for one in recompute(forged)]
    assert "/readings/6/stale" in where
    assert "/gaps/0/stale" in where
    honest = make_record(aged(job), VEHICLE, who(59), software="test", workshop="a test")
    assert recompute(honest) == ()


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
    assert all(line.rsplit(",", 1)[1] for line in lines), "each point in words, though the record itself has none"
