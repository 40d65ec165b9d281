"""What a running server counts for whoever watches over it, in Prometheus' text at ``/metrics`` where that is asked for.

The library counts in this process; where `KEPT_IN` names a folder before this module is imported, in files there that all server
processes of a machine share, so that whichever is asked tells the sum.
"""

import hmac
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from prometheus_client import (
    CONTENT_TYPE_LATEST,
    REGISTRY,
    CollectorRegistry,
    Counter,
    Gauge,
    Histogram,
    generate_latest,
)
from prometheus_client.multiprocess import MultiProcessCollector, mark_process_dead

KEPT_IN = "PROMETHEUS_MULTIPROC_DIR"
CONTENT_TYPE = CONTENT_TYPE_LATEST
_SECONDS = (0.01, 0.025, 0.05, 0.1, 0.15, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)

REQUESTS = Counter("fairsquare_requests", "Requests answered", ["method", "route", "status"])
REQUEST_SECONDS = Histogram(
    "fairsquare_request_seconds", "How long a request took", ["method", "route"], buckets=_SECONDS
)
BEING_ANSWERED = Gauge("fairsquare_requests_here", "Requests that are here now", multiprocess_mode="livesum")
LISTENING = Gauge("fairsquare_listening_pages", "Pages that listen for what is recorded", multiprocess_mode="livesum")
QUEUED = Gauge(
    "fairsquare_slow_work_waiting",
    "Who waits for photos, files and records (made), plans of the day (plans) and PDFs (papers)",
    ["kind"],
    multiprocess_mode="livesum",
)
POOL_SIZE = Gauge("fairsquare_pool_size", "Connections that may be used at once", multiprocess_mode="livesum")
POOL_IN_USE = Gauge("fairsquare_pool_in_use", "Connections that are used now", multiprocess_mode="livesum")
POOL_WAIT = Histogram("fairsquare_pool_wait_seconds", "How long was waited for a connection", buckets=_SECONDS)
RETRIES = Counter(
    "fairsquare_database_retries",
    "Transactions done again: after a deadlock or a failed certification (conflict), or a lost connection (lost)",
    ["why"],
)
AWAY = Counter("fairsquare_database_away", "Transactions given up because no node of the database served")
NODE_IN_USE = Gauge(
    "fairsquare_node_in_use",
    "Server processes that use this node of the database",
    ["node"],
    multiprocess_mode="livesum",
)
NODE_LEFT = Counter("fairsquare_node_left", "How often a node was left because it did not serve", ["node"])
CLOCK_AHEAD = Gauge(
    "fairsquare_database_clock_ahead_seconds",
    "By how much the database's clock is ahead of this machine's",
    multiprocess_mode="mostrecent",
)
CLOCK_PUT_BACK = Counter("fairsquare_database_clock_put_back", "How often the database's clock was seen put back")


@contextmanager
def kept_together(*, wanted: bool) -> Iterator[None]:
    """Have the processes that are started in the block count together, where that is `wanted`."""
    if not wanted:
        yield
        return
    folder = tempfile.mkdtemp(prefix="fairsquare-metrics-")
    os.environ[KEPT_IN] = folder
    try:
        yield
    finally:
        os.environ.pop(KEPT_IN, None)
        shutil.rmtree(folder, ignore_errors=True)


def text() -> bytes:
    """Return all that was counted, in Prometheus' text."""
    folder = os.environ.get(KEPT_IN)
    if not folder:
        return generate_latest(REGISTRY)
    for pid in {int(file.stem.rpartition("_")[2]) for file in Path(folder).glob("gauge_live*.db")}:
        if not _lives(pid):
            mark_process_dead(pid, folder)  # type: ignore[no-untyped-call]
    registry = CollectorRegistry()
    MultiProcessCollector(registry, folder)  # type: ignore[no-untyped-call]
    return generate_latest(registry)


def may_read(authorization: str, key: str) -> bool:
    """Say whether who sends this header has the key; nobody has one that is empty."""
    return bool(key) and hmac.compare_digest(authorization.encode(), f"Bearer {key}".encode())


def _lives(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
