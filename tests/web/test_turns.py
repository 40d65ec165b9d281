"""Turns at the door: who asks for much at once waits for their own, and nobody else waits for them."""

import asyncio
from collections import Counter
from types import SimpleNamespace

import httpx
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response, StreamingResponse
from starlette.types import Receive, Scope, Send

from fairsquare.web.turns import AT_ONCE, AT_ONCE_BY_LINK, LARGE, MOST_HERE, InTurn


class Slow:
    """An application that answers once it is let go, and counts who is inside."""

    def __init__(self) -> None:
        self.inside: Counter[str] = Counter()
        self.most: Counter[str] = Counter()
        self.go_on = asyncio.Event()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        who = Request(scope).headers.get("authorization", "a stranger")
        if scope["path"].endswith("/live"):
            await StreamingResponse(self._events(), media_type="text/event-stream")(scope, receive, send)
            return
        self.inside[who] += 1
        self.most[who] = max(self.most[who], self.inside[who])
        if who != "Bearer quick":
            await self.go_on.wait()
        self.inside[who] -= 1
        await PlainTextResponse("here")(scope, receive, send)

    async def _events(self):
        yield "retry: 2000\n\n"
        await self.go_on.wait()


def refuse(_: Request, fault: Exception) -> Response:
    return PlainTextResponse(str(fault), status_code=getattr(fault, "status", 500))


def client(app) -> httpx.AsyncClient:
    settings = SimpleNamespace(state=SimpleNamespace(settings=SimpleNamespace(https=False)))

    async def of_an_app(scope: Scope, receive: Receive, send: Send) -> None:
        await app({**scope, "app": settings}, receive, send)

    return httpx.AsyncClient(transport=httpx.ASGITransport(app=of_an_app), base_url="http://testserver")


async def until(said) -> None:
    async with asyncio.timeout(5):
        while not said():
            await asyncio.sleep(0.005)


def ask(http: httpx.AsyncClient, whose: str, path: str = "/api/v1/jobs") -> "asyncio.Task[httpx.Response]":
    return asyncio.create_task(http.get(path, headers={"authorization": f"Bearer {whose}"}))


def test_few_of_one_at_a_time_and_others_meanwhile() -> None:
    async def run() -> None:
        slow = Slow()
        async with client(InTurn(slow, refuse)) as http:
            many = [ask(http, "many") for _ in range(60)]
            await until(lambda: slow.inside["Bearer many"] == AT_ONCE)
            assert (await ask(http, "quick")).text == "here", "nobody else waits for them"
            health = [asyncio.create_task(http.get("/healthz")) for _ in range(AT_ONCE + 1)]
            await until(lambda: slow.inside["a stranger"] == AT_ONCE + 1)
            slow.go_on.set()
            answers = await asyncio.gather(*many)
            await asyncio.gather(*health)
        assert [one.text for one in answers] == ["here"] * 60, "all of them are answered"
        assert slow.most["Bearer many"] == AT_ONCE

    asyncio.run(run())


def test_of_large_bodies_one_after_the_other_is_taken_in() -> None:
    async def run() -> None:
        slow = Slow()
        async with client(InTurn(slow, refuse)) as http:
            whose = {"authorization": "Bearer many"}
            body = b"x" * (LARGE + 1)
            many = [asyncio.create_task(http.post("/api/v1/jobs", headers=whose, content=body)) for _ in range(5)]
            await until(lambda: slow.inside["Bearer many"] == 1)
            small = ask(http, "many")
            await until(lambda: slow.inside["Bearer many"] == 2)
            slow.go_on.set()
            assert {one.text for one in await asyncio.gather(small, *many)} == {"here"}
        assert slow.most["Bearer many"] == 2, "one large and one small: what is small waits for no photo"

    asyncio.run(run())


def test_who_has_more_waiting_than_anybody_needs_is_turned_away() -> None:
    async def run() -> None:
        slow = Slow()
        turns = InTurn(slow, refuse)
        async with client(turns) as http:
            many = [ask(http, "many") for _ in range(MOST_HERE + 5)]
            await until(lambda: sum(one.done() for one in many) == 5)
            refused = next(one.result() for one in many if one.done())
            assert (refused.status_code, refused.headers["connection"]) == (429, "close")
            assert "requests of yours are being answered: ask again" in refused.text
            slow.go_on.set()
            await asyncio.gather(*many)
        assert not turns._kept, "nothing is remembered of who has gone"

    asyncio.run(run())


def test_links_are_told_apart_by_their_codes_and_events_hold_no_place() -> None:
    async def run() -> None:
        slow = Slow()
        async with client(InTurn(slow, refuse)) as http:
            first = [asyncio.create_task(http.get("/handover/first")) for _ in range(20)]
            await until(lambda: slow.inside["a stranger"] == AT_ONCE_BY_LINK)
            second = asyncio.create_task(http.get("/handover/second/record.pdf"))
            await until(lambda: slow.inside["a stranger"] == AT_ONCE_BY_LINK + 1)
            listening = [ask(http, "a page", "/jobs/SL-0001/live") for _ in range(AT_ONCE + 3)]
            page = ask(http, "a page")
            await until(lambda: slow.inside["Bearer a page"] == 1)
            slow.go_on.set()
            await asyncio.gather(*first, second, *listening, page)

    asyncio.run(run())
