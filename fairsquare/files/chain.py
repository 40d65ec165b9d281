"""The hash chain of a record: every entry in the order in which it was recorded, each bound to itself and to all before it."""

import hashlib
from collections.abc import Iterator
from typing import Any, NamedTuple

import rfc8785

_RESULTS = "results"


class Entry(NamedTuple):
    """An entry of a record: its list and id, or its list and place where it has none; where it stands, when it was recorded, and
    what it says."""

    name: str
    where: str
    at: str
    value: Any


def entries_of(body: dict[str, Any]) -> list[Entry]:
    """Return the entries of a record: what stands alone first, then every row in the order of time, then what was worked out."""
    alone = [
        Entry(name, f"/{name}", "", value)
        for name, value in body.items()
        if not isinstance(value, list) and name != _RESULTS
    ]
    rows = [entry for name, value in body.items() if isinstance(value, list) for entry in _rows(name, value)]
    rows.sort(key=lambda entry: (entry.at, entry.where.rpartition("/")[0], int(entry.where.rpartition("/")[2])))
    return [*sorted(alone, key=lambda entry: entry.name), *rows, *_results(body.get(_RESULTS))]


def _results(results: Any) -> list[Entry]:
    """Return what was worked out: each point by itself, the rest whole."""
    if not isinstance(results, dict):
        return [Entry(_RESULTS, "/results", "", results)]
    points = results.get("points")
    rest = Entry(_RESULTS, "/results", "", {name: value for name, value in results.items() if name != "points"})
    if not isinstance(points, dict):
        return [rest, Entry("points", "/results/points", "", points)]
    return [rest, *(Entry(f"point {code}", f"/results/points/{code}", "", points[code]) for code in sorted(points))]


def _rows(name: str, values: list[Any]) -> Iterator[Entry]:
    for index, value in enumerate(values):
        own = value if isinstance(value, dict) else {}
        number = own.get("id", own.get("number", index))
        by = own.get("by") or own.get("opened") or {}
        at = own.get("at") or (by.get("at") if isinstance(by, dict) else "")
        yield Entry(f"{name} {number}", f"/{name}/{index}", at if isinstance(at, str) else "", value)


def _bound(before: str, entry: Entry) -> str:
    linked = rfc8785.dumps({"before": before, "entry": entry.name, "where": entry.where, "value": entry.value})
    return hashlib.sha256(linked).hexdigest()


def _own(entry: Entry) -> str:
    return hashlib.sha256(rfc8785.dumps({"entry": entry.name, "value": entry.value})).hexdigest()


def chain_of(body: dict[str, Any], previous: str) -> list[dict[str, str]]:
    """Return the chain of a record. `previous` is the SHA-256 of the record before it, which the first link is bound to."""
    links, before = [], previous
    for entry in entries_of(body):
        before = _bound(before, entry)
        links.append({"entry": entry.name, "where": entry.where, "own": _own(entry), "sha256": before})
    return links


def chain_findings(body: dict[str, Any], chain: Any, previous: Any) -> list[str]:
    """Return what of a record is not as its chain has it, the first entry first: changed, missing, added or moved."""
    if not isinstance(chain, list) or not all(isinstance(link, dict) for link in chain):
        return ["/integrity/chain: there is none any more"]
    entries = entries_of(body)
    findings = _differences(entries, chain)
    if findings:
        return findings
    before = previous if isinstance(previous, str) else ""
    for link, entry in zip(chain, entries, strict=True):
        before = _bound(before, entry)
        if link.get("sha256") != before:
            return [f"{entry.where}: the chain is broken at {entry.name}: it, or what it is bound to, was changed"]
        if set(link) != {"entry", "where", "own", "sha256"}:
            return [f"/integrity/chain: the link of {entry.name} was changed"]
    return []


def _differences(entries: list[Entry], chain: list[dict[str, Any]]) -> list[str]:
    by_name = {entry.name: entry for entry in entries}
    linked = [link.get("entry") for link in chain]
    differences = []
    for k, link in enumerate(chain, start=1):
        name = link.get("entry")
        entry = by_name.get(name) if isinstance(name, str) else None
        if entry is None:
            differences.append(f"{_shown(link.get('where'))}: missing: {_shown(name)}, entry {k} of {len(chain)}")
        elif link.get("own") != _own(entry):
            differences.append(
                f"{entry.where}: changed since the record was made: {entry.name}, entry {k} of {len(chain)}"
            )
        elif link.get("where") != entry.where:
            differences.append(
                f"{entry.where}: moved: {entry.name} stood at {_shown(link.get('where'))}, entry {k} of {len(chain)}"
            )
    differences += [
        f"{entry.where}: added to the record: {entry.name}" for entry in entries if entry.name not in linked
    ]
    if not differences and linked != [entry.name for entry in entries]:
        k = next((k for k, (a, e) in enumerate(zip(linked, entries, strict=False)) if a != e.name), len(entries))
        differences.append(
            f"/integrity/chain: out of order from entry {k + 1} on: {_shown(linked[k]) if k < len(linked) else 'nothing'}"
        )
    return differences


def _shown(value: Any) -> str:
    return str(value)[:60]
