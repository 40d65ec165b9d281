"""The grounds of the drills: a plain one, one with a small disk, one whose clock can be set, one whose nodes are apart."""

import os
import shutil
import subprocess
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

from drills import apart
from drills.ground import CLOCK, Ground, ground
from drills.scenes import APART, BACK, DISK, PLAIN, Scene
from fairsquare.service.cluster import Cluster

MakeGround = Callable[[], AbstractContextManager[Ground]]
_SMALL_DISK = "320m"


class NotHere(Exception):
    """A drill cannot be held on this machine; the message says what it needs."""


def plain() -> AbstractContextManager[Ground]:
    """Return the ground as `./run cluster` has it."""
    return ground(lambda folder: Cluster(folder, quick=True))


@contextmanager
def with_a_small_disk() -> Iterator[Ground]:
    """Yield a ground whose first node has a disk of its own that is soon full. Raises `NotHere`."""
    mounted: list[Path] = []

    def cluster(folder: Path) -> Cluster:
        disk = folder / "node-1"
        disk.mkdir()
        _as_root("mount", "-t", "tmpfs", "-o", f"size={_SMALL_DISK},mode=755", "none", str(disk))
        mounted.append(disk)
        return Cluster(folder, quick=True)

    try:
        with ground(cluster) as at:
            yield at
    finally:
        for disk in mounted:
            subprocess.run(["umount", "-l", str(disk)], check=False, capture_output=True)  # noqa: S603, S607 - our own
            shutil.rmtree(disk.parent, ignore_errors=True)


@contextmanager
def with_a_clock() -> Iterator[Ground]:
    """Yield a ground whose first node has a clock of its own, which goes as the others do until it is set. Raises `NotHere`."""
    found = next(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1"), None)
    if found is None:
        raise NotHere("it needs Debian's package libfaketime")

    def cluster(folder: Path) -> Cluster:
        clock = folder / CLOCK
        clock.write_text("+0\n")
        clock.chmod(0o644)
        made = Cluster(folder, quick=True)
        made.nodes[0].environment = {
            "LD_PRELOAD": str(found),
            "FAKETIME_TIMESTAMP_FILE": str(clock),
            "FAKETIME_CACHE_DURATION": "1",
            "FAKETIME_DONT_FAKE_MONOTONIC": "1",
            "DONT_FAKE_MONOTONIC": "1",
        }
        return made

    with ground(cluster) as at:
        yield at


@contextmanager
def with_nodes_apart() -> Iterator[Ground]:
    """Yield a ground each of whose nodes has a network of its own. Raises `NotHere`."""
    if os.geteuid():
        raise NotHere("it needs root, for networks of its own")
    try:
        wires = apart.wired()
        wires.__enter__()
    except OSError as fault:
        raise NotHere(str(fault)) from None
    try:
        with ground(apart.cluster_apart) as at:
            yield at
    finally:
        wires.__exit__(None, None, None)


GROUNDS: Sequence[tuple[MakeGround, Sequence[Scene]]] = (
    (plain, PLAIN),
    (with_a_clock, (BACK,)),
    (with_a_small_disk, (DISK,)),
    (with_nodes_apart, (APART,)),
)


def _as_root(*command: str) -> None:
    if os.geteuid():
        raise NotHere("it needs root, for a disk of its own")
    done = subprocess.run(command, check=False, capture_output=True, text=True)  # noqa: S603 - our own command
    if done.returncode:
        raise NotHere(done.stderr.strip())
