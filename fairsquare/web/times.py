"""Times as people type and read them: in the shop's own time zone, whatever the tablet's says."""

import datetime
import time
from zoneinfo import ZoneInfo

from fastapi import Request

from fairsquare.core.errors import Refused
from fairsquare.core.plan.shop_said import ShopSaid
from fairsquare.settings import Settings
from fairsquare.store import shop
from fairsquare.store.database import DatabaseAway

_FRESH_S = 5.0


def shop_of(request: Request) -> ShopSaid:
    """Return what the shop says of itself, looked up anew every few seconds, and at once after it was said here.

    While the database is away it is what was said last: a page that says so needs nothing but the process.
    """
    state = request.app.state
    kept: tuple[float, ShopSaid] | None = getattr(state, "shop", None)
    if kept is None or time.monotonic() - kept[0] > _FRESH_S:
        try:
            kept = time.monotonic(), state.desk.database.run(shop.said)[1]
        except DatabaseAway:
            return kept[1] if kept else ShopSaid()
        state.shop = kept
    return kept[1]


def shop_was_said(request: Request) -> None:
    """Look the shop up again: it has just said something of itself."""
    kept = getattr(request.app.state, "shop", None)
    request.app.state.shop = (float("-inf"), kept[1]) if kept else None


def zone_of(request: Request) -> ZoneInfo:
    """Return the shop's time zone: as it says itself, else as the server was told."""
    settings: Settings = request.app.state.settings
    return shop_of(request).zone(settings.zone)


def typed_time(text: str, field: str, zone: ZoneInfo) -> str:
    """Return a day and time as it was typed in the shop's zone, such as 2026-11-26T14:10, as UTC, ISO 8601.

    Of an hour that the clock shows twice the first is meant. Raises `Refused` for what is no time, or one that the clock skips.
    """
    try:
        wall = datetime.datetime.fromisoformat(text.strip())
    except ValueError:
        raise Refused("Say day and time, such as 2026-11-26 14:10.", field=field, value=text[:40]) from None
    if wall.tzinfo is not None or not 2000 <= wall.year <= 2200:
        raise Refused("Say day and time of this shop, such as 2026-11-26 14:10.", field=field, value=text[:40])
    then = wall.replace(tzinfo=zone).astimezone(datetime.UTC)
    if then.astimezone(zone).replace(tzinfo=None) != wall:
        raise Refused(
            "The clock skips this time that night: summer time begins. Say one before or after.",
            field=field,
            value=text[:40],
        )
    return then.strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def shown_time(moment: str, zone: ZoneInfo, now: datetime.datetime | None = None) -> str:
    """Return a UTC time as it is said in the shop: 14:10 today, Wed 14:10 within six days, else with its date."""
    at = datetime.datetime.fromisoformat(moment).astimezone(zone)
    today = (now or datetime.datetime.now(datetime.UTC)).astimezone(zone).date()
    days = (at.date() - today).days
    if not days:
        return f"{at:%H:%M}"
    return f"{at:%a %H:%M}" if abs(days) < 7 else f"{at:%Y-%m-%d %H:%M}"


def field_time(moment: str, zone: ZoneInfo) -> str:
    """Return a UTC time as a field for day and time holds it."""
    return f"{datetime.datetime.fromisoformat(moment).astimezone(zone):%Y-%m-%dT%H:%M}"


def dated_time(moment: str, zone: ZoneInfo) -> str:
    """Return a UTC time as people read it: today's as hours and minutes, others with their date; the shop's zone is not named."""
    at = datetime.datetime.fromisoformat(moment).astimezone(zone)
    today = datetime.datetime.now(zone).date()
    named = " UTC" if zone.key == "UTC" else ""
    return at.strftime("%H:%M" if at.date() == today else "%Y-%m-%d %H:%M") + named
