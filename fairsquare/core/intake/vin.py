"""The vehicle identification number: its form (ISO 3779) and its check digit (49 CFR 565.15), where the scheme has one."""

from typing import Literal

from fairsquare.core.model import Model

_VALUES = dict(
    zip("ABCDEFGHJKLMNPRSTUVWXYZ0123456789", (*range(1, 9), *range(1, 6), 7, 9, *range(2, 10), *range(10)), strict=True)
)
_WEIGHTS = (8, 7, 6, 5, 4, 3, 2, 10, 0, 9, 8, 7, 6, 5, 4, 3, 2)
_CHECK_PLACE = 8


class VinCheck(Model):
    """A VIN as understood, with a verdict and what to do about it."""

    vin: str
    verdict: Literal["none", "fits", "does_not_fit", "malformed"]
    words: str


def check_digit(vin: str) -> str:
    """Return the check digit, 0-9 or X, that a well-formed VIN of 17 characters should carry in ninth place."""
    remainder = sum(_VALUES[character] * weight for character, weight in zip(vin, _WEIGHTS, strict=True)) % 11
    return "X" if remainder == 10 else str(remainder)


def check_vin(text: str) -> VinCheck:
    """Judge a VIN as typed; spaces and dashes are left out, letters made capital. Never raises."""
    vin = "".join(text.upper().split()).replace("-", "")
    if not vin:
        return VinCheck(vin="", verdict="none", words="No VIN was given.")
    strangers = [character for character in vin if character not in _VALUES]
    if strangers:
        hint = " I, O and Q are never used: look for 1 and 0." if set(strangers) <= set("IOQ") else ""
        return VinCheck(
            vin=vin,
            verdict="malformed",
            words=f"“{strangers[0]}” cannot stand in a VIN: it has capital letters and digits only.{hint}",
        )
    if len(vin) != len(_WEIGHTS):
        return VinCheck(vin=vin, verdict="malformed", words=f"A VIN has 17 characters; this one has {len(vin)}.")
    wanted = check_digit(vin)
    if vin[_CHECK_PLACE] == wanted:
        return VinCheck(vin=vin, verdict="fits", words=f"The check digit {wanted} fits.")
    return VinCheck(
        vin=vin,
        verdict="does_not_fit",
        words=f"By the North American scheme the ninth character would be {wanted}, not {vin[_CHECK_PLACE]}. Many regions "
        "do not use a check digit: compare it with the plate, character by character; if it agrees, keep it.",
    )
