"""The parts of the product: the locked Python packages with the checksums of their files, and what is copied in."""

import hashlib
import json
import re
from importlib import metadata
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[1]
LOCK, VENDOR = ROOT / "requirements" / "run.txt", ROOT / "fairsquare" / "web" / "static" / "vendor"
_PINNED = re.compile(r"^([A-Za-z0-9][\w.-]*)==([^\s\\]+)((?:\s*\\\n\s*--hash=sha256:[0-9a-f]{64})*)", re.MULTILINE)


class Part(NamedTuple):
    """A package that is used: from where, its version, its licence where one is known, and the SHA-256 of its files."""

    kind: str
    name: str
    version: str
    licence: str
    sha256: tuple[str, ...]


def locked(lock: Path = LOCK) -> list[Part]:
    """Return the packages of a lock file, in its order. Raises `ValueError` for one without a checksum."""
    found = []
    for name, version, hashes in _PINNED.findall(lock.read_text(encoding="utf-8")):
        sums = tuple(re.findall(r"sha256:([0-9a-f]{64})", hashes))
        if not sums:
            raise ValueError(f"{name} stands in {lock.name} without a checksum")
        found.append(Part("pypi", name, version, _licence(name), sums))
    return found


def copied() -> list[Part]:
    """Return what is copied into the repository, as it lies there. Raises `ValueError` for a file that nobody named."""
    said = json.loads((VENDOR / "vendor.json").read_text(encoding="utf-8"))
    named = {name for one in said for name in one["files"]}
    lying = {
        str(file.relative_to(VENDOR)) for file in VENDOR.rglob("*") if file.is_file() and file.name != "vendor.json"
    }
    if lying != named:
        raise ValueError(f"vendor.json and the folder differ: {', '.join(sorted(lying ^ named))}")
    return [
        Part("npm", one["name"], one["version"], one["licence"], tuple(_sum(VENDOR / name) for name in one["files"]))
        for one in said
    ]


def same_name(name: str) -> str:
    """Return a name as the index has it, however it is written (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def _licence(name: str) -> str:
    try:
        told = metadata.metadata(name)
    except metadata.PackageNotFoundError:
        return ""
    said = told.get("License-Expression") or ""
    classified = [one.rpartition(" :: ")[2] for one in told.get_all("Classifier") or () if one.startswith("License ::")]
    return said or "; ".join(classified) or (told.get("License") or "").partition("\n")[0][:100]


def _sum(file: Path) -> str:
    return hashlib.sha256(file.read_bytes()).hexdigest()
