"""Amounts in the shop's money: read as people write them, kept in hundredths."""

from decimal import Decimal, InvalidOperation

from fairsquare.core.errors import Refused

_MOST_CENTS = 10**12


def read_money(text: str, field: str) -> int:
    """Return an amount in hundredths. Raises `Refused` that names the field."""
    plain = "".join(text.split()).replace("'", "").replace(",", ".")
    try:
        cents = int((Decimal(plain) * 100).to_integral_value())
    except (InvalidOperation, ValueError, OverflowError):
        raise Refused("An amount, such as 8400 or 8400.50.", field=field, value=text[:40]) from None
    if not 0 <= cents <= _MOST_CENTS:
        raise Refused("An amount that is not below nought.", field=field, value=text[:40])
    return cents


def show_money(cents: int) -> str:
    """Return an amount as it is shown: 8 400.50."""
    return f"{cents / 100:,.2f}".replace(",", "\u202f")
