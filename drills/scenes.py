"""What happens in each drill."""

import os
import signal
import time
from collections.abc import Callable
from typing import NamedTuple

from drills.ground import Crew, Ground

_BEFORE_S, _AFTER_S = 4.0, 8.0
_FROZEN_S = 20.0


class Scene(NamedTuple):
    """A drill: its name, what happens, who is at work, and what may be expected of it at most."""

    name: str
    happens: Callable[[Ground], None]
    crew: Crew = Crew()
    most_wait_s: float = 6.0


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


FIRST = Scene("server killed", kill_a_server)
PLAIN = (
    FIRST,
    Scene("node killed", kill_a_node),
    Scene("node in use killed", kill_the_node_in_use),
    Scene("two nodes killed", kill_two_nodes, most_wait_s=40.0),
    Scene("node stopped for 20 s", freeze_a_node, most_wait_s=10.0),
)
