"""Who sends nothing, half of something, or too much of it: hung up on or refused, and nobody else waits."""

import asyncio
import socket
import threading
import time
from collections.abc import Iterator

import pytest
import uvicorn

from fairsquare.processes import free_port
from fairsquare.service import patience
from fairsquare.web import middleware
from fairsquare.web.middleware import MEGABYTE, LimitBody, TooLarge, TooSlow, largest_of

HEAD_S = 0.4
WHOLE = b"GET / HTTP/1.1\r\nHost: testserver\r\n\r\n"


async def ok(scope, receive, send) -> None:
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
    await send({"type": "http.response.body", "body": b"ok"})


@pytest.fixture
def port(monkeypatch) -> Iterator[int]:
    """A server that waits for a head no longer than `HEAD_S`."""
    monkeypatch.setattr(patience, "HEAD_S", HEAD_S)
    port = free_port()
    config = uvicorn.Config(
        ok, port=port, http=patience.PatientProtocol, log_level="error", timeout_keep_alive=30, lifespan="off"
    )
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield port
    server.should_exit = True
    thread.join()


def hung_up_after(port: int, pieces: tuple[bytes, ...], pause_s: float = 0.1) -> float:
    """Send pieces with pauses, then wait until the server hangs up; return after how many seconds."""
    began = time.monotonic()
    with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
        try:
            for piece in pieces:
                line.sendall(piece)
                time.sleep(pause_s)
            while line.recv(4096):
                continue
        except (BrokenPipeError, ConnectionResetError):
            return time.monotonic() - began
    return time.monotonic() - began


@pytest.mark.parametrize("pieces", [(), (b"GET / HTTP/1.1\r\nHost: a",), tuple(bytes([one]) for one in WHOLE[:-2])])
def test_a_head_that_never_ends_is_hung_up_on(port, pieces) -> None:
    assert HEAD_S * 0.9 <= hung_up_after(port, pieces) < 5


def test_who_sends_whole_heads_stays_connected(port) -> None:
    with socket.create_connection(("127.0.0.1", port), timeout=10) as line:
        for _ in range(2):
            line.sendall(WHOLE[:20])
            time.sleep(HEAD_S / 3)
            line.sendall(WHOLE[20:])
            answer = b""
            while not answer.endswith(b"ok"):
                answer += line.recv(4096)
            assert answer.startswith(b"HTTP/1.1 200")
            time.sleep(HEAD_S * 1.5)


def told(pieces, headers=(), path: str = "/jobs", largest_mb: int = 256) -> tuple[int, str, int]:
    """Return status and kind of what the limits answer, and how many pieces were asked for."""
    asked, started = 0, []

    async def app(scope, receive, send) -> None:
        try:
            while (await receive()).get("more_body"):
                continue
        except Exception as fault:
            raise RuntimeError("a library made something else of it") from fault
        await ok(scope, receive, send)

    async def receive():
        nonlocal asked
        asked += 1
        return await pieces(asked)

    async def send(message) -> None:
        if message["type"] == "http.response.start":
            started.append(message["status"])

    kinds = []

    def refuse(request, fault):
        kinds.append(fault.kind)
        return middleware.Response(status_code=fault.status)

    limits = LimitBody(app, refuse, largest_mb)
    asyncio.run(limits({"type": "http", "method": "POST", "path": path, "headers": list(headers)}, receive, send))
    return started[0], "".join(kinds), asked


async def endless(_: int) -> dict:
    return {"type": "http.request", "body": b"x" * MEGABYTE, "more_body": True}


async def silent(_: int) -> dict:
    await asyncio.sleep(60)
    return {}


def test_more_than_a_body_may_have_is_refused_announced_or_not() -> None:
    assert told(endless, [(b"content-length", b"9999999")])[:2] == (413, "too-large")
    assert told(endless, [(b"content-length", b"9999999")])[2] <= 2
    assert told(endless) == (413, "too-large", 9)
    assert told(endless, path="/jobs/SL-0001/photos") == (413, "too-large", 65)
    assert told(endless, path="/api/v1/jobs/files", largest_mb=100) == (413, "too-large", 101)
    assert largest_of("/jobs/files", 8 * MEGABYTE) == largest_of("/jobs/x/photos", 8 * MEGABYTE) == 8 * MEGABYTE


def test_a_body_that_does_not_come_is_not_waited_for(monkeypatch) -> None:
    monkeypatch.setattr(middleware, "PIECE_S", 0.05)
    assert told(silent) == (408, "too-slow", 1)
    assert told(silent, [(b"content-length", b"9999999")])[:2] == (413, "too-large"), "nor for one that is refused"
    monkeypatch.setattr(middleware, "WHOLE_S", -1.0)

    async def drips(asked: int) -> dict:
        return {"type": "http.request", "body": b"x", "more_body": asked < 9}

    assert told(drips)[:2] == (408, "too-slow")
    assert (TooLarge.status, TooSlow.status) == (413, 408)
