"""The ground on which drills are held: a cluster of three nodes, two servers, jobs that are measured, people at work in them."""

import secrets
import shutil
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from subprocess import Popen

import numpy as np
import pymysql

from drills.hands import Caller, Hand, Recorder, Watcher, sign_in_of
from drills.journal import Found, Row, found, told
from drills.lines import AtCommit
from fairsquare.actions import Desk
from fairsquare.actions.measuring import open_setup, take_readings
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.measure import NewReading
from fairsquare.processes import free_port, stop
from fairsquare.service.cluster import Cluster, ClusterNode
from fairsquare.service.demo import start_server
from fairsquare.service.keeping import records_checked
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store import people
from fairsquare.store.database import Connection, Database, select
from fairsquare.store.jobs import JobDetails
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import connect_arguments
from fairsquare.store.people import Person

SERVERS = 2
CLOCK = "clock"
"""In the folder of a ground: by how much the clock of a node is wrong that is asked to read it."""
_SYNCED_S, _SETTLED_S = 120.0, 60.0


@dataclass
class Outcome:
    """What a drill showed."""

    found: Found
    records: int
    records_good: bool
    saw: Counter[str] = field(default_factory=Counter)
    refused: list[str] = field(default_factory=list)
    page_away_s: float = 0.0
    remarks: list[str] = field(default_factory=list)

    @property
    def good(self) -> bool:
        """Whether nothing that was confirmed is missing, doubled, out of order or does not verify, and nothing was refused."""
        return self.found.good and self.records_good and not self.refused


class Ground:
    """Three nodes, two servers, each of which asks the node of its number first."""

    def __init__(self, folder: Path, cluster: Cluster) -> None:
        self.folder, self.cluster, self.at_commit = folder, cluster, AtCommit()
        self.desk: Desk
        self.addresses: list[str] = []
        self.servers: list[Popen[bytes]] = []
        self._urls: list[str] = []
        self._person: Person

    def begin(self) -> None:
        """Start the nodes one after the other, make the tables and let people in. Raises `MariaDBFault`."""
        self.cluster.start()
        url = self.cluster.url()
        migrate(url)
        self.desk = Desk(Database(url, 2), software="a drill", workshop="a drill", number_prefix="SL-")
        self.desk.database.run(_let_in)
        lead = sign_in_of("lead")
        ids = {row["name"]: row["id"] for row in self.desk.database.run(people.people)}
        self._person = Person(ids[lead.name], lead.name, lead.full_name, "lead")

    def start_servers(self, urls: Sequence[str] = ()) -> None:
        """Start the servers, over these ways to the database or their own."""
        self._urls = list(urls) or [self.cluster.url(k) for k in range(SERVERS)]
        for k in range(SERVERS):
            self.addresses.append(f"http://127.0.0.1:{free_port()}")
            self.servers.append(self._server(k))

    def servers_over(self, urls: Sequence[str] = ()) -> None:
        """Have the servers started anew over these ways to the database, or over their own."""
        self._urls = list(urls) or [self.cluster.url(k) for k in range(SERVERS)]
        for k in range(SERVERS):
            stop(self.servers[k])
            self.servers[k] = self._server(k)

    def server_again(self, k: int) -> None:
        """Start a server again that was killed."""
        self.servers[k].wait()
        self.servers[k] = self._server(k)

    def end(self) -> None:
        """Stop all."""
        for server in self.servers:
            stop(server)
        with suppress(AttributeError):
            self.desk.database.close()
        self.cluster.stop()
        self.cluster.remove()

    def job(self) -> str:
        """Return a new job that is measured: safe, a sheet, its set-up accepted."""
        desk, person = self.desk, self._person
        number = desk.open_job(person, _key(), JobDetails(vehicle=DUNLIN.name))
        desk.accept_sheet(person, _key(), number, DUNLIN.sheet, {}, "a drill")
        for item in SAFETY_ITEMS:
            desk.answer_safety(person, _key(), number, item.key, "done", "", "a drill", "D-1")
        self._sign(number, "made_safe")
        setup = open_setup(desk, person, _key(), number, "3-D instrument", 0.3)
        references = [
            NewReading(
                purpose="reference",
                code=point.code,
                xyz=instrument_reading(np.array(point.xyz), 3, np.zeros(3)),
                said=point.code,
            )
            for point in DUNLIN.sheet.points
            if point.reference
        ]
        take_readings(desk, person, _key(), number, setup, references)
        self._sign(number, "setup_accepted")
        return number

    @contextmanager
    def nodes_back(self, *nodes: ClusterNode) -> Iterator[None]:
        """Have nodes that the block killed started again after it, and wait until they have what they missed."""
        yield
        for node in nodes:
            self.cluster.again(node)
        self.wait_synced()

    def wait_synced(self) -> None:
        """Wait until all nodes have all. Raises `TimeoutError`."""
        until = time.monotonic() + _SYNCED_S
        while {node.state() for node in self.cluster.nodes} != {"Synced"}:
            if time.monotonic() > until:
                states = {node.name: node.state() for node in self.cluster.nodes}
                raise TimeoutError(f"the nodes do not come together again: {states}")
            time.sleep(0.2)

    def rows(self, node: ClusterNode, drill: str) -> list[Row]:
        """Return the readings of a drill as one node has them."""
        asked = "SELECT id, instrument FROM reading WHERE instrument LIKE %s"
        with self._at(node) as database:
            rows = database.run(lambda c: select(c, asked, f"{drill} hand %"))
        parts = [(row["id"], *row["instrument"].split(" #")) for row in rows]
        return [Row(own, hand, int(deed)) for own, hand, deed in parts]

    def wait_alike(self) -> None:
        """Wait until every node has been given what was last confirmed at any of them."""
        self.wait_synced()
        until = time.monotonic() + _SETTLED_S
        while len({_committed(node) for node in self.cluster.nodes}) > 1 and time.monotonic() < until:
            time.sleep(0.2)

    def records(self, node: ClusterNode) -> tuple[str, bool, set[str]]:
        """Check every record that a node has; return what was found, whether all are whole, and their checksums."""
        with self._at(node) as database:
            words, good = records_checked(self._url(node))
            kept = {row["sha256"] for row in database.run(lambda c: select(c, "SELECT sha256 FROM record"))}
        return words, good, kept

    def _url(self, node: ClusterNode) -> str:
        arguments = connect_arguments(self.cluster.url())
        return f"mysql://{arguments['user']}:{arguments['password']}@{node.host}:{node.port}/fairsquare"

    @contextmanager
    def _at(self, node: ClusterNode) -> Iterator[Database]:
        database = Database(self._url(node), 1)
        try:
            yield database
        finally:
            database.close()

    def _server(self, k: int) -> Popen[bytes]:
        environment = {"FAIRSQUARE_DATABASE_URL": self._urls[k], "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_METRICS_KEY": ""}
        return start_server(self.folder / f"server-{k + 1}.log", "127.0.0.1", self.addresses[k], environment)

    def _sign(self, number: str, hold: HoldName) -> None:
        state = self.desk.view(number).state.hold(hold)
        self.desk.sign(self._person, _key(), number, hold, state.evidence, "a drill" if state.missing else "")


def _let_in(connection: Connection) -> None:
    for one in SIGN_INS:
        people.add_person(connection, one.name, one.full_name, one.role, one.password, demo=True)


def _key() -> str:
    return secrets.token_hex(12)


def _committed(node: ClusterNode) -> str:
    with suppress(pymysql.MySQLError), node.as_root() as cursor:
        cursor.execute("SHOW GLOBAL STATUS LIKE 'wsrep_last_committed'")
        row = cursor.fetchone()
        return str(row[1]) if row else ""
    return node.name


@contextmanager
def ground(cluster: Callable[[Path], Cluster]) -> Iterator[Ground]:
    """Yield a ground over a cluster of one's own, in a folder of its own, and take all away again."""
    folder = Path(tempfile.mkdtemp(prefix="fairsquare-drills-"))
    folder.chmod(0o755)
    own = Ground(folder, cluster(folder))
    try:
        own.begin()
        yield own
    finally:
        own.end()
        shutil.rmtree(folder, ignore_errors=True)


@dataclass
class Crew:
    """How many are at work: hands, in so many jobs, each with a deed every so many seconds."""

    hands: int = 10
    jobs: int = 5
    every_s: float = 0.5


def hold_drill(
    at: Ground, name: str, happens: Callable[[Ground], None], crew: Crew, addresses: Sequence[str] = ()
) -> Outcome:
    """Have people work while something happens, and return what came of what they recorded. `addresses`: theirs, if not the
    servers' own."""
    over = threading.Event()
    jobs = [at.job() for _ in range(crew.jobs)]
    hands = [
        Hand(
            f"{name} hand {k}",
            Caller(addresses or at.addresses, k),
            jobs[k % crew.jobs],
            crew.every_s,
            at.folder / f"{name.replace(' ', '-')}-{k}.journal",
            over,
        )
        for k in range(crew.hands)
    ]
    recorder = Recorder(Caller(at.addresses, 0, "lead"), jobs[0], over)
    watchers = [Watcher(at.addresses, k, jobs[0], over) for k in range(SERVERS)]
    threads: list[threading.Thread] = [*hands, recorder, *watchers]
    for thread in threads:
        thread.start()
    try:
        happens(at)
    finally:
        over.set()
        for thread in threads:
            thread.join(150)
    at.wait_alike()
    journals = {hand.name: told(hand.file) for hand in hands}
    result = found(journals, [at.rows(node, name) for node in at.cluster.nodes])
    checked = [at.records(node) for node in at.cluster.nodes]
    outcome = Outcome(result, len(recorder.made), all(good and set(recorder.made) <= kept for _, good, kept in checked))
    outcome.remarks += result.words + [words for words, good, _ in checked if not good]
    for caller in (*(hand.caller for hand in hands), recorder.caller):
        outcome.saw += caller.seen
        outcome.refused += caller.refused
    for watcher in watchers:
        outcome.saw += watcher.saw
        outcome.page_away_s = max(outcome.page_away_s, watcher.longest_s)
    return outcome
