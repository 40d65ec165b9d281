"""What of the product is behind, without a network: `./run behind [FILE]`.

By itself it says what is installed otherwise than the lock has it, and what was copied in and changed since. With a file that was
made where there is a network it says what is behind: `pip list --outdated --format json`, or advisories in OSV's format, one or a
list of them.
"""

import json
import sys
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path
from typing import Any

from packaging.version import InvalidVersion, Version

from supply.parts import Part, copied, locked, same_name


def unlike(parts: list[Part]) -> Iterator[str]:
    """Yield what is installed otherwise than it is locked, in words."""
    for one in parts:
        try:
            here = metadata.version(one.name)
        except metadata.PackageNotFoundError:
            yield f"{one.name} {one.version}: not installed"
            continue
        if here != one.version:
            yield f"{one.name}: {here} is installed, {one.version} is locked"


def behind(parts: list[Part], known: Any) -> Iterator[str]:
    """Yield what is behind by what is known, in words. Raises `ValueError` for what is neither of the two kinds of file."""
    entries = known if isinstance(known, list) else [known]
    own = {same_name(one.name): one for one in parts}
    for entry in entries:
        if not isinstance(entry, dict) or not ({"latest_version", "name"} <= set(entry) or "affected" in entry):
            raise ValueError("neither what `pip list --outdated --format json` prints nor an advisory in OSV's format")
        if "affected" in entry:
            yield from _advised(own, entry)
            continue
        part = own.get(same_name(entry["name"]))
        if part is not None and _number(entry["latest_version"]) > _number(part.version):
            yield f"{part.name} {part.version}: {entry['latest_version']} is there"


def _advised(own: dict[str, Part], entry: dict[str, Any]) -> Iterator[str]:
    for affected in entry["affected"]:
        part = own.get(same_name(affected.get("package", {}).get("name", "")))
        if part is None:
            continue
        listed = part.version in affected.get("versions", ())
        if listed or any(_within(part.version, one.get("events", ())) for one in affected.get("ranges", ())):
            fixed = [e["fixed"] for one in affected.get("ranges", ()) for e in one.get("events", ()) if "fixed" in e]
            mended = f"; mended in {', '.join(fixed)}" if fixed else ""
            yield f"{part.name} {part.version}: {entry.get('id', 'an advisory')}, {entry.get('summary', '')[:120]}{mended}"


def _within(version: str, events: Any) -> bool:
    """Say whether a version lies in a range of OSV: from where it was introduced until it was fixed."""
    inside = False
    for event in events:
        if "introduced" in event and (event["introduced"] == "0" or _number(version) >= _number(event["introduced"])):
            inside = True
        if "fixed" in event and _number(version) >= _number(event["fixed"]):
            inside = False
        if "last_affected" in event and _number(version) > _number(event["last_affected"]):
            inside = False
    return inside


def _number(text: str) -> Version:
    try:
        return Version(text)
    except InvalidVersion:
        return Version("0")


def main(arguments: list[str]) -> int:
    """Print what is behind, and return how the program ends: 1 where something is."""
    try:
        parts = [*locked(), *copied()]
        found = list(unlike([one for one in parts if one.kind == "pypi"]))
        for file in arguments:
            found += behind(parts, json.loads(Path(file).read_text(encoding="utf-8")))
    except (OSError, ValueError) as fault:
        sys.stderr.write(f"{fault}\n")
        return 2
    for words in found:
        sys.stdout.write(f"- {words}\n")
    sys.stdout.write(f"{len(parts)} parts, {len(found)} behind{'' if arguments else ' by the lock alone'}\n")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
