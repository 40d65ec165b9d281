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
from collections.abc import Callable, Generator, Iterable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing.connection import Connection
from typing import TypeVar

from fairsquare import metrics
from fairsquare.core.errors import FairSquareError

T = TypeVar("T")
PROCESSES, MOST_WAITING, MOST_OF_ONE = 2, 60, 12
MOST_THOUGHTS, MOST_THOUGHTS_OF_ONE = 8, 2
"""What a deed waits for, as a plan for the day: it holds a thread meanwhile."""
SEARCHES = 2
_TASKS_PER_PROCESS = 200
MOST_MEMORY = 4 * 1024**3
"""Of one process, bytes of addresses: ten times what the largest photo or job takes."""
NICER = 19
"""The least there is: beside work of nice 10 a reading waited now and then until that had used up its turn (Linux 6.18)."""
_LOOK_EVERY_S = 1.0


def share(places: int, servers: int) -> int:
    """Return how many of so many places each of the server processes of a machine has: at least one."""
    return max(1, -(-places // servers))


class TooBusy(FairSquareError):
    """More is asked for than is made in a reasonable time; the message says how much waits."""

    status = 429
    kind = "too-busy"


class Broke(FairSquareError):
    """The process that did it came to its end; nothing was kept."""

    status = 503
    kind = "worker-broke"


class Queue:
    """How much of a kind waits, in all and of one: a person, or a link and its address."""

    def __init__(self, kind: str, most: int = MOST_WAITING, most_of_one: int = MOST_OF_ONE) -> None:
        self._counted = metrics.QUEUED.labels(kind)
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
        self._counted.inc()
        try:
            yield waiting
        finally:
            self._counted.dec()
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
        self.queue = Queue("made")
        self.thoughts = Queue("plans", MOST_THOUGHTS, MOST_THOUGHTS_OF_ONE)

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

    def order(self, work: Callable[..., T], *arguments: object) -> "Future[T]":
        """Have something made, whoever waits for it; a process that came to its end is told as `Broke`."""
        made: Future[T] = Future()

        def told(done: "Future[T]") -> None:
            fault = done.exception()
            if isinstance(fault, BrokenProcessPool | MemoryError):
                fault = Broke("This was too much for one of our processes: try again.")
            if fault is not None:
                made.set_exception(fault)
            else:
                made.set_result(done.result())

        try:
            self._submit(work, *arguments).add_done_callback(told)
        except BrokenProcessPool:
            self.close()
            made.set_exception(Broke("One of our processes came to its end: try again."))
        return made

    def wait(self, by: str, work: Callable[..., T], *arguments: object) -> T:
        """Return what `work` makes, as `run` does, for a deed that has to wait for it: a thread waits, so that few may.

        Raises as `run` does.
        """
        with self.thoughts.place(by):
            try:
                return self._submit(work, *arguments).result()
            except BrokenProcessPool:
                self.close()
                raise Broke("This was too much for one of our processes. Nothing of it is kept: try again.") from None

    def get_ready(self, needs: Callable[[], None]) -> None:
        """Start a process and have it import what it `needs`, so that the first who asks for something does not wait for that."""
        self._submit(needs)

    def close(self) -> None:
        """End the processes; what is asked for later starts them anew."""
        with self._lock:
            pool, self._pool = self._pool, None
        if pool is not None:
            pool.shutdown(wait=False, cancel_futures=True)

    def end(self) -> None:
        """End the processes at once, whatever they are doing, those of searches too: the server stops."""
        self.close()
        for process in multiprocessing.active_children():
            process.kill()
            process.join()

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


def streamed(work: Callable[..., Iterable[T]], *arguments: object) -> Generator[T, None, None]:
    """Yield what `work`, a function of a module, yields of the arguments in a process of its own, which ends with the iterator.

    Raises what it raises, and `Broke` where its process came to its end.
    """
    context = multiprocessing.get_context("spawn")
    here, there = context.Pipe(duplex=False)
    process = context.Process(target=_stream, args=(os.getpid(), there, work, arguments), daemon=True)
    process.start()
    there.close()
    try:
        while True:
            try:
                result, fault = here.recv()
            except EOFError:
                raise Broke("The process that looked came to its end. What was found is kept: try again.") from None
            if fault is not None:
                raise fault
            if result is None:
                return
            yield result[0]
    finally:
        here.close()
        process.kill()
        process.join()


def _stream(parent: int, there: Connection, work: Callable[..., Iterable[T]], arguments: tuple[object, ...]) -> None:
    _begin(parent)
    try:
        for part in work(*arguments):
            there.send(((part,), None))
        there.send((None, None))
    except BrokenPipeError:
        return
    except FairSquareError as fault:
        there.send((None, _carried(fault)))


def _carried(fault: FairSquareError) -> FairSquareError:
    """Return a fault in a form that goes from process to process: those of our own have arguments that pickling leaves out."""
    carried = FairSquareError(fault.title, field=fault.field, value=fault.value)
    carried.status, carried.kind = fault.status, fault.kind
    return carried


async def waited_for(queue: Queue, by: str, made: "Future[T]") -> T:
    """Return what is being made elsewhere, without a thread that waits for it. Raises `TooBusy`, and what its making raised."""
    if made.done():
        return made.result()
    with queue.place(by):
        return await asyncio.shield(asyncio.wrap_future(made))


def _begin(parent: int) -> None:
    """In a process, first: leave the processors to whoever answers requests, keep to its memory, and end when the server does."""
    os.nice(NICER)
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(_LOOK_EVERY_S)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()
