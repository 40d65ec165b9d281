"""What the product is made of: every part with a checksum, a bill of materials that is one, and what is behind named."""

import json

import pytest
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from supply.behind import behind, main
from supply.bom import made
from supply.parts import VENDOR, Part, copied, locked

OWN = [
    Part("pypi", "Some.Thing", "1.2.0", "MIT", ("00",)),
    Part("npm", "@a/font", "5.0.0", "OFL-1.1", ("00",)),
]


def advisory(**events) -> dict:
    ranges = [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, events]}] if events else []
    return {"id": "X-1", "summary": "it breaks", "affected": [{"package": {"name": "some-thing"}, "ranges": ranges}]}


def test_the_bill_of_materials_is_one_and_names_every_part() -> None:
    text = made()
    try:
        assert JsonStrictValidator(SchemaVersion.V1_6).validate_str(text) is None
    except Exception as fault:  # the library's own validation needs parts of jsonschema that may be missing
        assert type(fault).__name__ == "MissingOptionalDependencyException"
    said = json.loads(text)
    assert (said["bomFormat"], said["specVersion"]) == ("CycloneDX", "1.6")
    names = {one["name"] for one in said["components"]}
    assert names == {one.name for one in (*locked(), *copied())}
    assert {"fastapi", "cryptography", "bootstrap", "htmx.org"} <= names
    assert all(one["hashes"] for one in said["components"])
    assert len({one["purl"] for one in said["components"]}) == len(said["components"])


def test_every_locked_package_has_checksums_and_no_address(tmp_path) -> None:
    parts = locked()
    assert len(parts) > 50
    assert all(len(one) == 64 for part in parts for one in part.sha256)
    for name in ("run.txt", "test.txt"):
        text = (VENDOR.parents[3] / "requirements" / name).read_text()
        assert "://" not in text
        assert "--find-links" not in text
        assert len(locked(VENDOR.parents[3] / "requirements" / name)) == text.count("==")
    (tmp_path / "bare.txt").write_text("thing==1.0\n")
    with pytest.raises(ValueError, match="without a checksum"):
        locked(tmp_path / "bare.txt")


def test_what_is_copied_in_is_listed_to_the_file() -> None:
    assert {one.name for one in copied()} == {
        "bootstrap",
        "htmx.org",
        "@fontsource/barlow",
        "@fontsource/barlow-semi-condensed",
    }
    htmx = (VENDOR / "htmx.min.js").read_text()
    assert f'version:"{next(one.version for one in copied() if one.name == "htmx.org")}"' in htmx
    assert (
        f"v{next(one.version for one in copied() if one.name == 'bootstrap')}"
        in (VENDOR / "bootstrap.min.css").read_text()[:200]
    )


def test_what_is_behind_is_named() -> None:
    assert list(behind(OWN, [{"name": "some_thing", "version": "1.2.0", "latest_version": "1.10.0"}])) == [
        "Some.Thing 1.2.0: 1.10.0 is there"
    ]
    assert not list(
        behind(OWN, [{"name": "some_thing", "latest_version": "1.2.0"}, {"name": "x", "latest_version": "9"}])
    )
    assert list(behind(OWN, advisory(fixed="1.3"))) == ["Some.Thing 1.2.0: X-1, it breaks; mended in 1.3"]
    assert not list(behind(OWN, advisory(fixed="1.2.0")))
    assert list(behind(OWN, advisory(last_affected="1.2.0")))
    assert not list(behind(OWN, advisory(last_affected="1.1.9")))
    assert list(behind(OWN, {"affected": [{"package": {"name": "some.thing"}, "versions": ["1.2.0"]}]}))
    for other in ({}, [1], {"name": "x"}):
        with pytest.raises(ValueError, match="neither"):
            list(behind(OWN, other))


def test_the_check_says_what_is_installed_otherwise(tmp_path, capsys) -> None:
    assert main([]) in (0, 1)
    assert "by the lock alone" in capsys.readouterr().out
    (tmp_path / "known.json").write_text(json.dumps([{"name": "fastapi", "latest_version": "999.0"}]))
    assert main([str(tmp_path / "known.json")]) == 1
    assert "999.0 is there" in capsys.readouterr().out
    assert main([str(tmp_path / "none.json")]) == 2
