"""Three nodes of a database and two servers on this machine: what a chain of shops runs, and how it goes on when a part dies."""

import os
import re
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from subprocess import Popen
from typing import NamedTuple

import pymysql
from pymysql.cursors import Cursor

from fairsquare.demo.people import SIGN_INS
from fairsquare.processes import free_port
from fairsquare.service.demo import load_demo, start_server, tell, until_stopped
from fairsquare.service.mariadb import MariaDBFault, PrivateMariaDB, server_program
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import Node

PROVIDER = Path("/usr/lib/galera/libgalera_smm.so")
"""Where Debian's galera-4 puts it."""
_HEARS = ";".join(
    (
        "evs.keepalive_period=PT0.3S",
        "evs.inactive_check_period=PT0.2S",
        "evs.suspect_timeout=PT1S",
        "evs.inactive_timeout=PT5S",
        "evs.install_timeout=PT5S",
        "evs.join_retrans_period=PT0.2S",
    )
)
"""A node that is not heard of for a second is suspected; where all others say so they go on without it, and say it five times a
second until they agree (once a second, as the provider has it, cost two seconds more). On a network that stutters the provider's
own five seconds are better."""
_CAUSAL = "repl.causal_read_timeout=PT5S"
"""How long a transaction waits at its beginning for what other nodes had confirmed; then it is tried again."""
_SYNCED_S, _BACK_AFTER_S = 120.0, 20.0
NODES, SERVERS = 3, 2
_GIVER = "node 3"
"""Which node gives another all it has, if it can: the one that no server asks first."""


class Ways(NamedTuple):
    """The ports of a node: for SQL, for the others, for what it missed, and for a whole copy; and where the others find it."""

    sql: int
    group: int
    missed: int
    whole: int
    host: str = "127.0.0.1"


class ClusterNode(PrivateMariaDB):
    """One node; the first of a cluster makes the data, the others are given them."""

    keeps_log = False

    def __init__(self, folder: Path, name: str, ways: Ways, group: Sequence[Ways], *, quick: bool = False) -> None:
        super().__init__(folder, quick=quick)
        self.name, self._ways, self._group = name, ways, group
        self.port = ways.sql
        self._first, self._position = False, ""

    def begin(self) -> str:
        """Begin the cluster with this node, and return the URL of the database at it."""
        if not PROVIDER.exists():
            raise MariaDBFault("Debian's package galera-4 is not installed: run `apt-get install galera-4`.")
        self._first = True
        try:
            return self.start()
        finally:
            self._first = False

    def come(self, password: str) -> None:
        """Start, and be given what the others have meanwhile."""
        self.folder.mkdir(parents=True, exist_ok=True)
        kept = self.folder / "password"
        kept.touch(mode=0o600)
        kept.write_text(password)
        data = self._data_folder()
        self._position = self.position() if (data / "grastate.dat").exists() else ""
        try:
            self._process = self._launch(data)
        finally:
            self._position = ""

    def position(self) -> str:
        """Return how far the data of a node that does not run go, as UUID:number; empty where they do not say.

        Started with that, a node that was killed is given what it missed, and not a whole copy, for which another stands still.
        """
        data, server = self._data_folder(), server_program()
        assert server is not None
        asked = subprocess.run(  # noqa: S603 - our own command
            [server, *self._options(data), "--wsrep-recover"],
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_SYNCED_S,
            check=False,
            user=self._user,
        )
        found = re.findall(r"WSREP: Recovered position:?\s*([0-9a-f-]{36}:-?[0-9]+)", asked.stderr)
        return found[-1] if found else ""

    def begin_again(self) -> None:
        """Have this node be the one to begin with, whatever its end was."""
        state = self.folder / "data" / "grastate.dat"
        state.write_text(re.sub(r"safe_to_bootstrap:\s*0", "safe_to_bootstrap: 1", state.read_text()))

    def join(self, password: str) -> None:
        """Start, and return once all that the others have is here. Raises `MariaDBFault`."""
        self.come(password)
        until = time.monotonic() + _SYNCED_S
        while time.monotonic() < until and self.running():
            if self.state() == "Synced":
                return
            time.sleep(0.1)
        tail = (self.folder / "mariadb.log").read_text(errors="replace")[-1500:]
        raise MariaDBFault(f"{self.name} did not join the cluster:\n{tail}")

    def state(self) -> str:
        """Return what the node says of itself, such as Synced; empty where it does not answer."""
        try:
            with self.as_root() as cursor:
                cursor.execute("SHOW GLOBAL STATUS LIKE 'wsrep_local_state_comment'")
                row = cursor.fetchone()
        except pymysql.MySQLError:
            return ""
        return str(row[1]) if row else ""

    @contextmanager
    def as_root(self) -> Iterator[Cursor]:
        """Yield a cursor of the node's administrator. Raises what PyMySQL raises."""
        connection = self._as_root(self._password(), connect_timeout=2, read_timeout=2)
        with connection, connection.cursor() as cursor:
            yield cursor

    @property
    def is_safe_to_begin(self) -> bool:
        """Whether this node was the last to stop, so that nothing is at others that it has not."""
        kept = self.folder / "data" / "grastate.dat"
        return kept.exists() and "safe_to_bootstrap: 1" in kept.read_text()

    def _options(self, data: Path) -> list[str]:
        group, own = ",".join(f"{ways.host}:{ways.group}" for ways in self._group), self._ways.host
        listens = f"gmcast.listen_addr=tcp://{own}:{self._ways.group};ist.recv_addr={own}:{self._ways.missed}"
        return [
            *super()._options(data),
            "--binlog-format=ROW",
            "--innodb-autoinc-lock-mode=2",
            "--wsrep-on=ON",
            f"--wsrep-provider={PROVIDER}",
            "--wsrep-cluster-name=fairsquare",
            f"--wsrep-cluster-address=gcomm://{group}",
            f"--wsrep-node-name={self.name}",
            f"--wsrep-node-address={own}:{self._ways.group}",
            f"--wsrep-provider-options={listens};gcache.size=64M;{_CAUSAL};{_HEARS}",
            "--wsrep-sst-method=rsync",
            f"--wsrep-sst-receive-address={own}:{self._ways.whole}",
            f"--wsrep-sst-donor={_GIVER},",
            *([f"--wsrep-start-position={self._position}"] if self._position else []),
            *(["--wsrep-new-cluster"] if self._first else []),
        ]


class Cluster:
    """Nodes on this machine that have the same data."""

    def __init__(
        self,
        folder: Path,
        group: Sequence[Ways] = (),
        *,
        quick: bool = False,
        kind: type[ClusterNode] = ClusterNode,
    ) -> None:
        group = group or free_ways(NODES)
        self.nodes = [
            kind(folder / f"node-{k + 1}", f"node {k + 1}", ways, group, quick=quick) for k, ways in enumerate(group)
        ]
        self._password = ""

    def start(self) -> str:
        """Start all, and return the URL that names them all, the first first. Raises `MariaDBFault`.

        It is begun with the node that stopped last; where none was stopped in order, as after a power cut, with the one that has
        most.
        """
        made = [node for node in self.nodes if (node.folder / "data" / "grastate.dat").exists()]
        first = next((node for node in self.nodes if node.is_safe_to_begin), None)
        if made and first is None:
            first = max(made, key=lambda node: int(node.position().rpartition(":")[2] or -1))
            first.begin_again()
        first = first or self.nodes[0]
        url = first.begin()
        self._password = url.partition("@")[0].rpartition(":")[2]
        for node in self.nodes:
            if node is not first:
                node.join(self._password)
        return self.url()

    def url(self, first: int = 0) -> str:
        """Return the URL that names all nodes, one of them first."""
        order = [*self.nodes[first:], *self.nodes[:first]]
        hosts = ",".join(str(Node(node.host, node.port)) for node in order)
        return f"mysql://fairsquare:{self._password}@{hosts}/fairsquare"

    def again(self, node: ClusterNode) -> None:
        """Start a node again that died; where several did, the first waits for the others to have a quorum."""
        node.come(self._password)

    def stop(self) -> None:
        """Stop all in order, the first last: it is the one to begin with the next time."""
        for node in reversed(self.nodes):
            node.stop()

    def remove(self) -> None:
        """Delete the data of all; they must be stopped."""
        for node in self.nodes:
            node.remove()


def free_ways(many: int) -> list[Ways]:
    """Return ports for so many nodes, all different and free just now."""
    doors = []
    for _ in range(4 * many):
        door = socket.socket()
        door.bind(("127.0.0.1", 0))
        doors.append(door)
    ports = [int(door.getsockname()[1]) for door in doors]
    for door in doors:
        door.close()
    return [Ways(*own) for own in zip(*[iter(ports)] * 4, strict=True)]


def run_cluster(folder: Path, host: str, port: int, *, fresh: bool) -> int:
    """Run three nodes and two servers until Ctrl-C or a signal; return the exit status. What dies comes back after a while."""
    cluster = Cluster(folder)

    def work(servers: list[Popen[bytes]]) -> int:
        if fresh:
            tell("forgetting the data of the cluster")
            cluster.remove()
            shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True, exist_ok=True)
        tell(f"starting {NODES} nodes of the database, one after the other")
        os.environ |= {"FAIRSQUARE_DATABASE_URL": cluster.start(), "FAIRSQUARE_DEMO": "1"}
        migrate(cluster.url())
        load_demo(cluster.url())
        addresses: list[str] = []
        for k in range(SERVERS):
            addresses.append(f"http://{host}:{free_port(port + k, host)}")
            servers.append(_server(folder, cluster, host, addresses, k))
        _say_what_to_kill(cluster, addresses, servers)
        _see_to_all(folder, cluster, host, addresses, servers)
        return 0

    return until_stopped(work, cluster.stop)


def _server(folder: Path, cluster: Cluster, host: str, addresses: Sequence[str], k: int) -> Popen[bytes]:
    """Start a server, which prefers the node of its own number."""
    return start_server(folder / f"server-{k + 1}.log", host, addresses[k], {"FAIRSQUARE_DATABASE_URL": cluster.url(k)})


def _say_what_to_kill(cluster: Cluster, addresses: Sequence[str], servers: Sequence[Popen[bytes]]) -> None:
    lead = next(sign_in for sign_in in SIGN_INS if sign_in.role == "lead")
    lines = [
        "",
        f"Sign in as {lead.name} with {lead.password}, at either server; what is recorded at one is seen at the other:",
    ]
    lines += [
        f"  server {k + 1}   {address}   asks node {k + 1} first   (process {server.pid})"
        for k, (address, server) in enumerate(zip(addresses, servers, strict=True))
    ]
    lines += ["", "The nodes of the database:"]
    lines += [f"  {node.name}     127.0.0.1:{node.port}   (process {node.pid})" for node in cluster.nodes]
    first, second = cluster.nodes[0].pid, cluster.nodes[1].pid
    lines += [
        "",
        "Open a job at both servers and record something now and then. Then, in another terminal:",
        f"  kill -9 {first}            node 1 dies: server 1 goes on at node 2 within about two seconds",
        f"  kill -STOP {second}          node 2 hangs (kill -CONT {second} wakes it): the same, within about six",
        f"  kill -9 {first} {second}      two die: one alone has no quorum, and pages say that the database does not answer",
        f"  kill -9 {servers[0].pid}            server 1 dies: server 2 goes on; its pages connect again when it is back",
        f"  {addresses[0]}/readyz says which node it asks.",
        f"What was killed is started again after {_BACK_AFTER_S:.0f} seconds.",
        "Ctrl-C stops all and keeps the data; --fresh begins again.",
        "",
    ]
    sys.stdout.write("\n".join(lines) + "\n")
    sys.stdout.flush()


def _see_to_all(
    folder: Path, cluster: Cluster, host: str, addresses: Sequence[str], servers: list[Popen[bytes]]
) -> None:
    """Start again what died, after a while, and say so."""
    died: dict[str, float] = {}
    coming: set[ClusterNode] = set()
    while True:
        time.sleep(0.3)
        for node in cluster.nodes:
            if _is_due(died, node.name, alive=node.running()):
                cluster.again(node)
                coming.add(node)
            if node in coming and node.state() == "Synced":
                coming.discard(node)
                tell(f"{node.name} is back (process {node.pid})")
        for k, server in enumerate(servers):
            if _is_due(died, f"server {k + 1}", alive=server.poll() is None):
                servers[k] = _server(folder, cluster, host, addresses, k)
                tell(f"server {k + 1} is back (process {servers[k].pid})")


def _is_due(died: dict[str, float], name: str, *, alive: bool) -> bool:
    """Say whether what died is to be started again; say once that it died."""
    if alive:
        died.pop(name, None)
        return False
    if name not in died:
        died[name] = time.monotonic()
        tell(f"{name} died")
    return time.monotonic() - died[name] > _BACK_AFTER_S
