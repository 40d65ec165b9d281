"""What tests share: a private MariaDB, a fresh database for each module, a desk, people, pages and an invented sheet."""

import json
import re
import secrets
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

import httpx
import hypothesis
import pymysql
import pytest
from argon2 import PasswordHasher
from starlette.testclient import TestClient

from fairsquare.actions import Desk
from fairsquare.core.sheet.model import Sheet
from fairsquare.demo.load import load
from fairsquare.demo.people import INSTRUMENT, SIGN_INS, SignIn
from fairsquare.processes import free_port, start, stop
from fairsquare.service.mariadb import PrivateMariaDB
from fairsquare.settings import Settings
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.store import people
from fairsquare.store.database import Database
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import connect_arguments
from fairsquare.store.people import Person
from fairsquare.web.app import create_app

hypothesis.settings.register_profile("untimed", deadline=None)
hypothesis.settings.load_profile("untimed")
"""No test fails for the time that an example takes: a busy machine is no fault of ours."""
LONGEST = frozenset(f"test_{name}.py" for name in ("service", "job", "fuzz", "starving", "finishing", "pages", "look"))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Keep the order within a module whose tests share a database and tell one story; all other order is by chance, but
    that modules that take longest come first, so that no processor waits for another at the end."""
    stories = [one for one in items if _tells_a_story(one)]
    in_order = {module: [one for one in stories if one.path == module] for module in {one.path for one in stories}}
    for own in in_order.values():
        own.sort(key=_written, reverse=True)
    items[:] = [in_order[one.path].pop() if _tells_a_story(one) else one for one in items]
    items.sort(key=lambda item: item.path.name not in LONGEST)


def _written(item: pytest.Item) -> tuple[int, tuple[int, ...]]:
    """Where in its module a test was written, and which of its cases it is."""
    case = getattr(item, "callspec", None)
    return item.reportinfo()[1] or 0, tuple(case.indices.values()) if case else ()


def _tells_a_story(item: pytest.Item) -> bool:
    return bool({"database", "server", "empty_for_module"} & set(getattr(item, "fixturenames", ())))


@pytest.fixture(scope="session", autouse=True)
def cheap_passwords() -> None:
    """Hashes that take a millisecond: some thousand people sign in here, and what is safe is argon2-cffi's own choice, not ours.
    A server that is started as a process of its own hashes as it does for everybody."""
    people._hasher = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    people._NOBODY = people._hasher.hash("nobody has this password")


@pytest.fixture(scope="session")
def mariadb() -> Iterator[PrivateMariaDB]:
    folder = Path(tempfile.mkdtemp(prefix="fairsquare-test-"))
    folder.chmod(0o755)
    server = PrivateMariaDB(folder / "mariadb", quick=True)
    server.start()
    yield server
    server.stop()
    server.remove()
    shutil.rmtree(folder, ignore_errors=True)


def by_admin(whole: str, *statements: str) -> list[dict]:
    """Run statements, and return the rows of the last."""
    connection = pymysql.connect(**{**connect_arguments(whole), "autocommit": True})
    cursor = connection.cursor()
    for sql in statements:
        cursor.execute(sql)
    found = list(cursor.fetchall())
    connection.close()
    return found


@pytest.fixture(scope="session")
def tables(mariadb: PrivateMariaDB) -> list[str]:
    """The statements that make an up-to-date database, read from one that was migrated."""
    whole = mariadb._own_database()
    by_admin(whole, "CREATE DATABASE test_template")
    own = urlsplit(whole)._replace(path="/test_template").geturl()
    migrate(own)
    names = [next(iter(one.values())) for one in by_admin(own, "SHOW TABLES")]
    return [by_admin(own, f"SHOW CREATE TABLE {name}")[0]["Create Table"] for name in names]


@pytest.fixture(scope="module")
def url(mariadb: PrivateMariaDB, tables: list[str]) -> Iterator[str]:
    """A database of its own for each module of tests, with all tables."""
    name = f"test_{secrets.token_hex(4)}"
    yield _with_tables(mariadb, tables, name)
    by_admin(mariadb._own_database(), f"DROP DATABASE {name}")


def _with_tables(mariadb: PrivateMariaDB, tables: list[str], name: str) -> str:
    whole = mariadb._own_database()
    by_admin(whole, f"CREATE DATABASE {name}")
    own = urlsplit(whole)._replace(path=f"/{name}").geturl()
    copied = "INSERT INTO schema_migration SELECT * FROM test_template.schema_migration"
    by_admin(own, "SET foreign_key_checks = 0", *tables, copied)
    return own


@contextmanager
def _empty_database(mariadb: PrivateMariaDB) -> Iterator[str]:
    """An empty installation: a database without a table."""
    whole, name = mariadb._own_database(), f"test_{secrets.token_hex(4)}"
    by_admin(whole, f"CREATE DATABASE {name}")
    yield urlsplit(whole)._replace(path=f"/{name}").geturl()
    by_admin(whole, f"DROP DATABASE {name}")


@pytest.fixture
def empty(mariadb) -> Iterator[str]:
    with _empty_database(mariadb) as url:
        yield url


@pytest.fixture(scope="module")
def empty_for_module(mariadb) -> Iterator[str]:
    with _empty_database(mariadb) as url:
        yield url


@pytest.fixture(scope="module")
def database(url: str) -> Iterator[Database]:
    database = Database(url, 8)
    yield database
    database.close()


@pytest.fixture(scope="module")
def persons(database: Database) -> dict[str, Person]:
    return let_in(database)


class Demo(NamedTuple):
    """A database with the demo in it, what its tables and their own columns are called, and the numbers of its jobs."""

    name: str
    columns: dict[str, str]
    jobs: list[str]


@pytest.fixture(scope="session")
def demo_loaded(mariadb: PrivateMariaDB, tables: list[str]) -> Demo:
    """The demo's jobs as `./run demo` loads them, loaded once: for modules of tests to copy."""
    name = "test_demo"
    own = _with_tables(mariadb, tables, name)
    database = Database(own, 8)
    let_in(database)
    jobs = load(Desk(database, software="Fair Square test", workshop="a test", number_prefix="SL-"))
    database.close()
    found = by_admin(
        own,
        f"""SELECT table_name AS `table`, GROUP_CONCAT(CONCAT('`', column_name, '`')) AS own
            FROM information_schema.columns WHERE table_schema = '{name}' AND is_generated = 'NEVER'
              AND table_name <> 'schema_migration' GROUP BY table_name""",
    )
    return Demo(name, {one["table"]: one["own"] for one in found}, jobs)


@pytest.fixture(scope="module")
def demo(url: str, demo_loaded: Demo, persons: dict[str, Person]) -> list[str]:
    """The demo in the module's database: the numbers of its jobs."""
    copied = [
        statement
        for table, own in demo_loaded.columns.items()
        for statement in (
            f"DELETE FROM `{table}`",
            f"INSERT INTO `{table}` ({own}) SELECT {own} FROM {demo_loaded.name}.`{table}`",
        )
    ]
    by_admin(url, "SET foreign_key_checks = 0, sql_mode = 'NO_AUTO_VALUE_ON_ZERO'", "BEGIN", *copied, "COMMIT")
    return demo_loaded.jobs


def let_in(database: Database) -> dict[str, Person]:
    """Let the demo's people sign in, and return them by their roles: technician, lead, estimator, apprentice."""

    def add(one: SignIn) -> Person:
        number = database.run(
            lambda c: people.add_person(c, one.name, one.full_name, one.role, one.password, demo=True)
        )
        return Person(number, one.name, one.full_name, one.role)

    found: dict[str, Person] = {}
    for one in SIGN_INS:
        found.setdefault(one.role, add(one))
    return found


@pytest.fixture(scope="module")
def desk(database: Database, persons: dict[str, Person]) -> Desk:
    return Desk(database, software="Fair Square test", workshop="a test", number_prefix="SL-")


@pytest.fixture(scope="session")
def sheet() -> Sheet:
    return DUNLIN.sheet


@pytest.fixture(scope="module")
def app(url: str, database: Database, persons: dict[str, Person]):
    settings = Settings(database_url=url, demo=True, sign_in_tries=60)
    return create_app(settings, database, [one._asdict() for one in SIGN_INS])


def key() -> str:
    """A new request key."""
    return secrets.token_urlsafe(18)


_BLOCKS = (
    "html|head|body|main|header|footer|nav|section|article|aside|div|p|ul|ol|li|dl|dt|dd|table|thead|tbody|tfoot|tr|td|th|caption|"
    "form|fieldset|legend|details|summary|h[1-6]|figure|figcaption|hr|option|optgroup|select|colgroup|col|link|meta|title|script"
)
_AS_WRITTEN = re.compile(r"(<(?:pre|textarea)\b.*?</(?:pre|textarea)>)", re.DOTALL)


def as_read(html: str) -> str:
    """Return a page as whoever reads it has it: how a template is laid out, in lines and between its blocks, is not seen."""
    parts = _AS_WRITTEN.split(html)
    for k in range(0, len(parts), 2):
        one_line = re.sub(r"\s+", " ", parts[k])
        parts[k] = re.sub(rf" ?(</?(?:{_BLOCKS})\b[^>]*>) ?", r"\1", one_line).replace(" >", ">")
    return "".join(parts)


def read_it(answer: httpx.Response) -> None:
    """Have an answer's page as it is read: a hook of a client."""
    answer.read()
    if answer.headers.get("content-type", "").startswith("text/html"):
        answer._content = as_read(answer.content.decode()).encode()


class Pages:
    """A browser without a screen: signed in, it fills forms with the tokens that the page gave."""

    def __init__(self, app, sign_in: SignIn | None, http: httpx.Client | None = None) -> None:
        self.http = http or TestClient(
            app, base_url="http://testserver", follow_redirects=True, raise_server_exceptions=False
        )
        self.http.event_hooks = {"response": [read_it]}
        self._form_token: tuple[dict[str, str], str] | None = None
        if sign_in:
            answer = self.http.post("/sign-in", data={"name": sign_in.name, "password": sign_in.password})
            assert "Sign in" not in answer.text[:300], answer.text[:500]

    def get(self, path: str, status: int = 200) -> str:
        answer = self.http.get(path)
        assert answer.status_code == status, (path, answer.status_code, answer.text[-1500:])
        return answer.text

    def csrf(self) -> str:
        """Return the token of the session's forms, looked up once for its cookie."""
        session = dict(self.http.cookies)
        if self._form_token is None or self._form_token[0] != session:
            page = self.http.get("/help").text
            self._form_token = dict(self.http.cookies), page.split('"X-CSRF-Token": "')[1].split('"')[0]
        return self._form_token[1]

    def post(self, path: str, status: int = 200, files=None, headers=None, **fields) -> str:
        data = {"csrf": self.csrf(), "request_key": key(), **fields}
        answer = self.http.post(path, data=data, files=files, headers=headers)
        assert answer.status_code == status, (path, answer.status_code, answer.text[-2500:])
        return answer.text


@contextmanager
def served(url: str, folder: Path, package_in: Path | None = None) -> Iterator[str]:
    """Run a real server over a database, of the package in a folder (None: this one), and yield its address."""
    port = free_port()
    log = (folder / "log").open("wb")
    process = start(
        [sys.executable, "-m", "fairsquare", "start", "--port", str(port)],
        log=log,
        folder=package_in,
        environment={"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_SIGN_IN_TRIES": "60"},
    )
    address = f"http://127.0.0.1:{port}"
    until = time.monotonic() + 30
    while time.monotonic() < until:
        try:
            if httpx.get(f"{address}/readyz").status_code == 200:
                break
        except httpx.HTTPError:
            time.sleep(0.05)
    yield address
    stop(process)
    assert process.returncode == 0, "it was not killed, and what it began ended with it"
    nothing_secret((folder / "log").read_text())


def nothing_secret(log: str) -> None:
    """What a server has logged, whatever was done with it: JSON line by line, no password, no code of a link, no token."""
    assert all(json.loads(line) for line in log.splitlines())
    secrets_of_people = [one.password for one in (*SIGN_INS, INSTRUMENT)]
    assert not [word for word in secrets_of_people if word in log]
    assert not re.search(r"/(handover|supplement)/[\w-]{20,}", log)
    assert not re.search(r"[Bb]earer [\w-]{20,}|fairsquare=[\w-]{20,}", log)


@pytest.fixture(scope="module")
def server(url: str, persons: dict[str, Person], tmp_path_factory) -> Iterator[str]:
    """The address of a real server over the module's database."""
    with served(url, tmp_path_factory.mktemp("server")) as address:
        yield address


@pytest.fixture(scope="module")
def as_role(app):
    """Return pages signed in as somebody of a role."""
    made: dict[str, Pages] = {}

    def sign_in(role: str) -> Pages:
        if role not in made:
            made[role] = Pages(app, next(one for one in SIGN_INS if one.role == role))
        return made[role]

    return sign_in


@pytest.fixture(scope="session", autouse=True)
def _quiet_logs() -> None:
    import logging

    import structlog

    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))
