"""Nodes that have machines of their own, as far as networks can tell: each in a network namespace, with a wire to the others and
one to the servers, either of which can be pulled out. Needs root, and `ip` of Debian's iproute2."""

import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pymysql

from fairsquare.processes import start
from fairsquare.service.cluster import NODES, Cluster, ClusterNode, Ways
from fairsquare.service.mariadb import server_program

_OTHERS, _SERVERS = "10.213.77", "10.213.78"
_WIRES = {"o": _OTHERS, "s": _SERVERS}


def ip(*words: str, check: bool = True) -> bool:
    """Run `ip`, and say whether it did what it was told."""
    program = shutil.which("ip", path="/usr/sbin:/sbin:/usr/bin:/bin")
    if program is None:
        raise OSError("ip is not installed: apt-get install iproute2")
    done = subprocess.run([program, *words], capture_output=True, text=True, check=False)  # noqa: S603 - our own command
    if check and done.returncode:
        raise OSError(f"ip {' '.join(words)}: {done.stderr.strip()}")
    return not done.returncode


def _space(k: int) -> str:
    return f"fsdrill{k}"


@contextmanager
def wired() -> Iterator[None]:
    """Make a namespace for each node, and two bridges to which each has a wire: one of the nodes, one of nodes and servers.

    Raises `OSError` where that may not be done.
    """
    _tear_down()
    try:
        for wire, net in _WIRES.items():
            ip("link", "add", f"fsdrill{wire}", "type", "bridge")
            ip("link", "set", f"fsdrill{wire}", "up")
            ip("addr", "add", f"{net}.1/24", "dev", f"fsdrill{wire}")
        for k in range(1, NODES + 1):
            ip("netns", "add", _space(k))
            ip("-n", _space(k), "link", "set", "lo", "up")
            for wire, net in _WIRES.items():
                ip("link", "add", f"fsd{wire}{k}", "type", "veth", "peer", "name", f"e{wire}", "netns", _space(k))
                ip("link", "set", f"fsd{wire}{k}", "master", f"fsdrill{wire}", "up")
                ip("-n", _space(k), "addr", "add", f"{net}.{10 + k}/24", "dev", f"e{wire}")
                ip("-n", _space(k), "link", "set", f"e{wire}", "up")
        yield
    finally:
        _tear_down()


def _tear_down() -> None:
    for k in range(1, NODES + 1):
        ip("netns", "del", _space(k), check=False)
        for wire in _WIRES:
            ip("link", "del", f"fsd{wire}{k}", check=False)
    for wire in _WIRES:
        ip("link", "del", f"fsdrill{wire}", check=False)


def pull_out(k: int, *, from_others: bool = True, from_servers: bool = False) -> None:
    """Pull out the wires of a node."""
    for wire, wanted in (("o", from_others), ("s", from_servers)):
        if wanted:
            ip("link", "set", f"fsd{wire}{k}", "down")


def plug_in(k: int) -> None:
    """Plug the wires of a node in again."""
    for wire in _WIRES:
        ip("link", "set", f"fsd{wire}{k}", "up")


class NodeApart(ClusterNode):
    """A node in a namespace of its own. Its administrator comes in by the socket, which needs no network."""

    lets_in = "%"

    def __init__(self, folder: Path, name: str, ways: Ways, group: Sequence[Ways], *, quick: bool = False) -> None:
        super().__init__(folder, name, ways, group, quick=quick)
        self.number = int(ways.host.rpartition(".")[2]) - 10
        self.host = f"{_SERVERS}.{10 + self.number}"

    def _as_root(self, password: str, **more: Any) -> Any:
        return pymysql.connect(unix_socket=str(self._data_folder() / "s"), user="root", password=password, **more)

    def _launch(self, data: Path) -> "subprocess.Popen[bytes]":
        server = server_program()
        assert server is not None
        inside = ["ip", "netns", "exec", _space(self.number), server, *self._options(data), f"--user={self._user}"]
        with (self.folder / "mariadb.log").open("ab") as log:
            return start(inside, log=log)


def cluster_apart(folder: Path) -> Cluster:
    """Return a cluster of nodes that are apart."""
    group = [Ways(3306, 4567, 4568, 4444, f"{_OTHERS}.{10 + k}") for k in range(1, NODES + 1)]
    return Cluster(folder, group, quick=True, kind=NodeApart)
