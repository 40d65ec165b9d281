"""Times as people type and read them: in the shop's own time zone, whatever the tablet's says."""

import datetime
from zoneinfo import ZoneInfo

from fastapi import Request

from fairsquare.core.errors import Refused
from fairsquare.settings import Settings


def zone_of(request: Request) -> ZoneInfo:
    """Return the shop's time zone."""
    settings: Settings = request.app.state.settings
    return settings.zone


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
