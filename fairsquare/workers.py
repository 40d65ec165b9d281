"""Slow work, apart from requests: a few processes of lower priority, a queue that is bounded and says how long it is.

Who waits for it holds no thread of the server, so that readings and pages are answered meanwhile, however much is asked for.
"""

import asyncio
import multiprocessing
import os
import resource
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from typing import TypeVar

from fairsquare.core.errors import FairSquareError

T = TypeVar("T")
PROCESSES, MOST_WAITING, MOST_OF_ONE = 2, 60, 12
_TASKS_PER_PROCESS = 200
MOST_MEMORY = 4 * 1024**3
"""Of one process, bytes of addresses: ten times what the largest photo or job takes."""
_NICER = 10
_LOOK_EVERY_S = 1.0


class TooBusy(FairSquareError):
    """More is asked for than is made in a reasonable time; the message says how much waits."""

    status = 429
    kind = "too-busy"


class Broke(FairSquareError):
    """The process that did it came to its end; nothing was kept."""

    status = 503
    kind = "worker-broke"


class Queue:
    """How much waits, in all and of one: a person, or a link and its address."""

    def __init__(self, most: int = MOST_WAITING, most_of_one: int = MOST_OF_ONE) -> None:
        self._most, self._most_of_one = most, most_of_one
        self._of: Counter[str] = Counter()
        self._lock = threading.Lock()

    @contextmanager
    def place(self, by: str) -> Iterator[int]:
        """Wait in the queue while the block runs; yield how many wait before. Raises `TooBusy`."""
        with self._lock:
            waiting, own = self._of.total(), self._of[by]
            if own >= self._most_of_one:
                raise TooBusy(
                    f"{own} things that you asked for are being made already: ask again when one of them is done."
                )
            if waiting >= self._most:
                raise TooBusy(f"{waiting} things are being made before this one: ask again in a minute.")
            self._of[by] += 1
        try:
            yield waiting
        finally:
            with self._lock:
                self._of[by] -= 1
                if not self._of[by]:
                    del self._of[by]


class Workers:
    """The processes, started when they are first needed, and their queue."""

    def __init__(self, processes: int = PROCESSES) -> None:
        self._processes = processes
        self._pool: ProcessPoolExecutor | None = None
        self._lock = threading.Lock()
        self.queue = Queue()

    async def run(self, by: str, work: Callable[..., T], *arguments: object) -> T:
        """Return what `work`, a function of a module, makes of the arguments in one of the processes.

        Raises what it raises, `TooBusy`, and `Broke` where its process came to its end.
        """
        with self.queue.place(by):
            try:
                return await asyncio.wrap_future(self._submit(work, *arguments))
            except (BrokenProcessPool, MemoryError) as fault:
                if isinstance(fault, BrokenProcessPool):
                    self.close()
                raise Broke("This was too much for one of our processes. Nothing of it is kept: try less.") from None

    def close(self) -> None:
        """End the processes; what is asked for later starts them anew."""
        with self._lock:
            pool, self._pool = self._pool, None
        if pool is not None:
            pool.shutdown(wait=False, cancel_futures=True)

    def _submit(self, work: Callable[..., T], *arguments: object) -> "Future[T]":
        with self._lock:
            if self._pool is None:
                self._pool = ProcessPoolExecutor(
                    self._processes,
                    mp_context=multiprocessing.get_context("spawn"),
                    initializer=_begin,
                    initargs=(os.getpid(),),
                    max_tasks_per_child=_TASKS_PER_PROCESS,
                )
            return self._pool.submit(work, *arguments)


async def waited_for(queue: Queue, by: str, made: "Future[T]") -> T:
    """Return what is being made elsewhere, without a thread that waits for it. Raises `TooBusy`, and what its making raised."""
    if made.done():
        return made.result()
    with queue.place(by):
        return await asyncio.shield(asyncio.wrap_future(made))


def _begin(parent: int) -> None:
    """In a process, first: leave the processors to whoever answers requests, keep to its memory, and end when the server does."""
    os.nice(_NICER)
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(_LOOK_EVERY_S)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()
