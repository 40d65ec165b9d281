"""Cores of their own for processes that are measured, on a machine that has too few: slow ones, by the scheduler's quota."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

SHARE = 0.4
"""What each has of a real core: two of them leave the database, and whoever asks, more than a core of two."""
PERIOD_US = 10_000
_GROUPS = Path("/sys/fs/cgroup/cpu")
"""Where the first version of control groups has its processors (Linux, Documentation/scheduler/sched-bwc.rst)."""


@contextmanager
def cores_of_their_own(processes: Sequence[int]) -> Iterator[bool]:
    """Give each process, by its id, a core of its own that has a share of a real one's speed; yield whether this machine can.

    It takes root and the first version of control groups. What a process starts later shares its core.
    """
    groups = [_GROUPS / f"fairsquare-bench-{pid}" for pid in processes]
    try:
        yield _put(processes, groups)
    finally:
        for group in groups:
            if group.exists():
                for pid in (group / "cgroup.procs").read_text().split():
                    (_GROUPS / "cgroup.procs").write_text(pid)
                group.rmdir()


def _put(processes: Sequence[int], groups: Sequence[Path]) -> bool:
    try:
        for pid, group in zip(processes, groups, strict=True):
            group.mkdir()
            (group / "cpu.cfs_period_us").write_text(str(PERIOD_US))
            (group / "cpu.cfs_quota_us").write_text(str(int(PERIOD_US * SHARE)))
            (group / "cgroup.procs").write_text(str(pid))
    except OSError:
        return False
    return True
