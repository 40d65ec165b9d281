"""Figures of a calculation change only with its version: what it answers to a worked request stands in tests/golden/figures.

`python -m tests.core.test_figures` writes the figures of every calculation whose version was raised, and of no other.
"""

import json
import math
from pathlib import Path
from typing import Any

import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.pull import statics
from tests.core.test_catalogue import REQUESTS

FIGURES = Path(__file__).parents[1] / "golden" / "figures"
CLOSE_ENOUGH = 1e-6
"""Another processor may round otherwise in the last digits."""


def figures_of(name: str) -> Any:
    """What a calculation answers to its worked request: figures and codes, no sentences."""
    return unsaid(json.loads(CATALOGUE[name].run_json(json.dumps(REQUESTS[name]))))


def unsaid(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: unsaid(one) for key, one in value.items() if not (isinstance(one, str) and " " in one)}
    return (
        [unsaid(one) for one in value if not (isinstance(one, str) and " " in one)]
        if isinstance(value, list)
        else value
    )


def differing(stands: Any, follows: Any, where: str = "") -> list[str]:
    """Where two answers differ, by their JSON pointers."""
    if isinstance(stands, dict) and isinstance(follows, dict):
        keys = sorted(set(stands) | set(follows))
        return [one for key in keys for one in differing(stands.get(key), follows.get(key), f"{where}/{key}")]
    if isinstance(stands, list) and isinstance(follows, list) and len(stands) == len(follows):
        pairs = enumerate(zip(stands, follows, strict=True))
        return [one for index, (a, b) in pairs for one in differing(a, b, f"{where}/{index}")]
    if isinstance(stands, float | int) and isinstance(follows, float | int) and not isinstance(stands, bool):
        same = math.isclose(stands, follows, rel_tol=CLOSE_ENOUGH, abs_tol=CLOSE_ENOUGH)
    else:
        same = stands == follows
    return [] if same else [where]


def kept(name: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((FIGURES / f"{name}.json").read_text())
    return found


@pytest.mark.parametrize("name", list(CATALOGUE))
def test_figures_change_only_with_the_version(name) -> None:
    stands, version = kept(name), CATALOGUE[name].version
    assert stands["version"] == version, "its version was raised: python -m tests.core.test_figures writes its figures"
    assert differing(stands["figures"], figures_of(name)) == [], (
        f"{name} works this out otherwise than version {version} did: raise its version in core/catalogue.py, and say in "
        "job/release/rules.py what changed where a record rests on it"
    )


def test_a_changed_figure_is_found(monkeypatch) -> None:
    monkeypatch.setattr(statics, "GRAVITY", 9.9)
    assert differing(kept("pull-statics")["figures"], figures_of("pull-statics"))


def write() -> None:
    FIGURES.mkdir(exist_ok=True)
    for name, calculation in CATALOGUE.items():
        file = FIGURES / f"{name}.json"
        if not file.exists() or kept(name)["version"] != calculation.version:
            body = {"version": calculation.version, "figures": figures_of(name)}
            file.write_text(json.dumps(body, indent=1, sort_keys=True) + "\n", encoding="utf-8")


if __name__ == "__main__":
    write()
