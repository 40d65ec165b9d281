"""Child processes that never outlive their parent, however it ends."""

import ctypes
import os
import pwd
import signal
import socket
import subprocess
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import IO

_PR_SET_PDEATHSIG = 1


def start(
    command: Sequence[str],
    *,
    log: IO[bytes] | int,
    user: str | None = None,
    environment: dict[str, str] | None = None,
    death_signal: int = signal.SIGTERM,
    folder: Path | None = None,
) -> subprocess.Popen[bytes]:
    """Start a process in a session of its own, in a folder; the kernel sends it `death_signal` when this process dies."""
    return subprocess.Popen(  # noqa: S603 - commands are ours
        list(command),
        stdin=subprocess.DEVNULL,
        stdout=log,
        stderr=subprocess.STDOUT,
        cwd=folder,
        env={**os.environ, **(environment or {})},
        user=user,
        group=pwd.getpwnam(user).pw_gid if user else None,
        extra_groups=[] if user else None,
        start_new_session=True,
        preexec_fn=die_with_parent(death_signal),  # noqa: PLW1509 - one prctl call, no locks
    )


def stop(process: subprocess.Popen[bytes] | None, patience_s: float = 15.0) -> None:
    """End a process: ask, wait, and then insist."""
    if process is None or process.poll() is not None:
        return
    process.terminate()
    try:
        process.wait(patience_s)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def free_port(wanted: int = 0, host: str = "127.0.0.1") -> int:
    """Return `wanted` when it is free, else the next free one after it; 0: any free port."""
    for port in range(wanted, wanted + 50) if wanted else [0]:
        with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise OSError(f"no free port from {wanted} to {wanted + 49}")


def reachable_by(user: str, folder: Path) -> bool:
    """Return whether `user` can pass through every folder above `folder`."""
    account = pwd.getpwnam(user)
    for above in [*reversed(folder.resolve().parents)]:
        status = above.stat()
        if status.st_uid == account.pw_uid:
            allowed = status.st_mode & 0o100
        elif status.st_gid == account.pw_gid:
            allowed = status.st_mode & 0o010
        else:
            allowed = status.st_mode & 0o001
        if not allowed:
            return False
    return True


def die_with_parent(death_signal: int = signal.SIGTERM) -> Callable[[], None]:
    """Return what a child has to do first, so that the kernel sends it `death_signal` when this process dies."""
    return partial(die_with, os.getpid(), death_signal, ctypes.CDLL(None, use_errno=True))


def die_with(parent: int, death_signal: int = signal.SIGTERM, libc: ctypes.CDLL | None = None) -> None:
    """In a child: have the kernel send it `death_signal` when `parent` dies; end at once where it did already."""
    (libc or ctypes.CDLL(None, use_errno=True)).prctl(_PR_SET_PDEATHSIG, death_signal)
    if os.getppid() != parent:
        os._exit(1)
