"""What happens in each drill."""

import os
import signal
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress
from typing import NamedTuple

from drills import apart
from drills.ground import CLOCK, Crew, Ground
from drills.lines import Line, dropping
from fairsquare.store.database import select

_BEFORE_S, _AFTER_S = 4.0, 8.0
_FROZEN_S, _NOTED_S = 20.0, 26.0


@contextmanager
def _as_they_are(at: Ground) -> Iterator[Sequence[str]]:
    """Change nothing before, and yield where people reach the servers: nowhere else than always."""
    del at
    yield ()


class Scene(NamedTuple):
    """A drill: its name, what happens, who is at work, how long one may have to wait at most, and what is set up around it."""

    name: str
    happens: Callable[[Ground], None]
    crew: Crew = Crew()
    most_wait_s: float = 6.0
    around: Callable[[Ground], AbstractContextManager[Sequence[str]]] = _as_they_are


def kill_a_server(at: Ground) -> None:
    """A server is killed; who was at it goes on at the other, and it is started again."""
    time.sleep(_BEFORE_S)
    at.servers[0].kill()
    time.sleep(_AFTER_S)
    at.server_again(0)
    time.sleep(2)


def kill_a_node(at: Ground) -> None:
    """The node is killed that no server asks first."""
    time.sleep(_BEFORE_S)
    with at.nodes_back(at.cluster.nodes[2]):
        at.cluster.nodes[2].kill()
        time.sleep(_AFTER_S)


def kill_the_node_in_use(at: Ground) -> None:
    """The node is killed that server 1 asks."""
    time.sleep(_BEFORE_S)
    with at.nodes_back(at.cluster.nodes[0]):
        at.cluster.nodes[0].kill()
        time.sleep(_AFTER_S)
    time.sleep(3)


def kill_two_nodes(at: Ground) -> None:
    """Two nodes are killed: the third has no quorum, and nothing can be recorded until one is back."""
    time.sleep(_BEFORE_S)
    with at.nodes_back(*at.cluster.nodes[:2]):
        for node in at.cluster.nodes[:2]:
            node.kill()
        time.sleep(_AFTER_S)
    time.sleep(3)


def freeze_a_node(at: Ground) -> None:
    """The node that server 1 asks stands still for a while, and wakes again."""
    time.sleep(_BEFORE_S)
    os.kill(at.cluster.nodes[0].pid, signal.SIGSTOP)
    time.sleep(_FROZEN_S)
    os.kill(at.cluster.nodes[0].pid, signal.SIGCONT)
    at.wait_synced()
    time.sleep(3)


@contextmanager
def _over_a_line(at: Ground) -> Iterator[Sequence[str]]:
    """Have server 1 ask node 1 over a line that sees its commits."""
    node, others = at.cluster.nodes[0], at.cluster.url(1)
    line = Line(node.host, node.port, after=at.at_commit.passed)
    head, _, hosts = others.rpartition("@")
    at.servers_over([f"{head}@127.0.0.1:{line.port},{hosts}", others])
    try:
        yield ()
    finally:
        line.close()
        at.servers_over()


def kill_in_a_commit(at: Ground) -> None:
    """The node that server 1 asks is killed when it has just been told to commit, at once and a moment later; no answer comes."""
    node = at.cluster.nodes[0]
    for later_s in (0.0, 0.002, 0.02):
        time.sleep(_BEFORE_S)
        with at.nodes_back(node):

            def then(later_s: float = later_s) -> None:
                time.sleep(later_s)
                node.kill()

            at.at_commit.arm(then)
            if not at.at_commit.happened.wait(20):
                raise TimeoutError("nobody committed")
            time.sleep(3)


@contextmanager
def _dropping_lines(at: Ground) -> Iterator[Sequence[str]]:
    """Have tablets reach the servers over lines that drop."""
    lines = [Line("127.0.0.1", int(address.rpartition(":")[2]), dropping, dropping) for address in at.addresses]
    try:
        yield [f"http://127.0.0.1:{line.port}" for line in lines]
    finally:
        for line in lines:
            line.close()


def wait_while_lines_drop(at: Ground) -> None:
    """Nothing else happens."""
    del at
    time.sleep(25)


def cut_a_node_off(at: Ground) -> None:
    """The node that server 1 asks is cut off from the other nodes, not from its server; then from everybody; then it is back."""
    time.sleep(_BEFORE_S)
    apart.pull_out(1)
    time.sleep(_AFTER_S)
    apart.pull_out(1, from_servers=True)
    time.sleep(_AFTER_S)
    apart.plug_in(1)
    at.wait_synced()
    time.sleep(3)


def fill_the_disk(at: Ground) -> None:
    """The disk of the node that server 1 asks is full; then there is room again, and somebody starts the node anew: it ended, or
    has left the others, because it could not keep what they kept."""
    node = at.cluster.nodes[0]
    time.sleep(_BEFORE_S)
    waste = node.folder / "waste"
    with waste.open("wb") as out, suppress(OSError):
        while True:
            out.write(bytes(65536))
            out.flush()
    time.sleep(_FROZEN_S)
    waste.unlink()
    if node.running() and node.state() == "Inconsistent":
        node.stop()
    if not node.running():
        at.cluster.again(node)
    at.wait_synced()
    time.sleep(3)


def put_the_clock_back(at: Ground) -> None:
    """The clock of the node that server 1 asks is put back by an hour; somebody notes it."""
    time.sleep(_BEFORE_S)
    (at.folder / CLOCK).write_text("-3600\n")
    time.sleep(_NOTED_S)
    rows = at.desk.database.run(lambda c: select(c, "SELECT seconds FROM put_back"))
    if len(rows) != 1 or abs(rows[0]["seconds"] - 3600) > 60:
        raise RuntimeError(f"the clock that was put back was noted so: {rows}")


FIRST = Scene("server killed", kill_a_server)
PLAIN = (
    FIRST,
    Scene("node killed", kill_a_node, most_wait_s=3.0),
    Scene("node in use killed", kill_the_node_in_use, most_wait_s=3.0),
    Scene("two nodes killed", kill_two_nodes, most_wait_s=40.0),
    Scene("killed in a commit", kill_in_a_commit, around=_over_a_line),
    Scene("node stopped for 20 s", freeze_a_node, most_wait_s=10.0),
    Scene("tablets, lines drop", wait_while_lines_drop, Crew(hands=50, jobs=10, every_s=2.5), around=_dropping_lines),
)
APART = Scene("network cut", cut_a_node_off, most_wait_s=10.0)
DISK = Scene("disk full", fill_the_disk, most_wait_s=20.0)
BACK = Scene("clock put back", put_the_clock_back)
