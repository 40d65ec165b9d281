"""Lengths against exact rational arithmetic (the standard library's Fraction), and against what people write."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fairsquare.core.errors import NotALength
from fairsquare.core.lengths import MM_PER, CompareLengths, ParseLength, compare_lengths, parse_length, read_length

UNIT_WORDS = {
    "mm": ["mm", " mm", "MM", " millimetres", "millimeter", " mm."],
    "cm": ["cm", " centimetre", " Centimeters"],
    "m": ["m", " metres", " METER"],
    "in": ["in", " inches", '"', "”", "″", "''", " in.", "Inch"],
    "ft": ["ft", " feet", "'", "’", "′", " FT.", "foot"],
}
VULGAR = {"⅜": Fraction(3, 8), "½": Fraction(1, 2), "⅝": Fraction(5, 8), "⅔": Fraction(2, 3), "⅞": Fraction(7, 8)}
units = st.sampled_from(list(MM_PER))


@st.composite
def written(draw) -> tuple[str, Fraction, str]:
    """Return a text with a unit, its exact value in mm, and the unit it is taken in."""
    unit = draw(units)
    whole = draw(st.integers(0, 9999))
    form = draw(st.sampled_from(["decimal", "comma", "mixed", "dashed", "vulgar", "ratio"]))
    if form in ("decimal", "comma"):
        digits = draw(st.text("0123456789", min_size=1, max_size=4).filter(lambda d: form == "decimal" or len(d) != 3))
        text, value = f"{whole}{'.' if form == 'decimal' else ','}{digits}", Fraction(f"{whole}.{digits}")
    elif form == "vulgar":
        character = draw(st.sampled_from(list(VULGAR)))
        text, value = f"{whole}{draw(st.sampled_from(['', ' ', '-']))}{character}", whole + VULGAR[character]
    else:
        below = draw(st.integers(2, 128))
        above = draw(st.integers(1, below - 1))
        ratio = Fraction(above, below)
        stroke = draw(st.sampled_from("/⁄"))
        joined = {"mixed": f"{whole} ", "dashed": f"{whole}-", "ratio": ""}[form]
        text, value = f"{joined}{above}{stroke}{below}", ratio + (0 if form == "ratio" else whole)
    sign = draw(st.sampled_from(["", "-", "−", "+"]))
    value = -value if sign in ("-", "−") else value
    return f"{sign}{text}{draw(st.sampled_from(UNIT_WORDS[unit]))}", value * MM_PER[unit], unit


@given(written(), units)
def test_mm_is_the_double_nearest_to_the_exact_value(case, bare) -> None:
    text, exact, unit = case
    found = parse_length(ParseLength(text=text, unit=bare))
    assert found.mm == float(exact)
    assert found.unit == unit


@given(written(), units, units)
def test_canonical_reads_back_to_the_same_whatever_the_unit(case, bare, other) -> None:
    found = parse_length(ParseLength(text=case[0], unit=bare))
    assert parse_length(ParseLength(text=found.canonical, unit=other)) == found


@given(st.integers(0, 300), st.integers(0, 11), st.integers(0, 15), units)
def test_feet_and_inches(feet, inches, sixteenths, bare) -> None:
    found = parse_length(ParseLength(text=f"{feet}' {inches} {sixteenths}/16\"", unit=bare))
    assert found.mm == float((feet * 12 + inches + Fraction(sixteenths, 16)) * Fraction(254, 10))
    assert found.unit == "ft"
    assert parse_length(ParseLength(text=found.canonical, unit="m")) == found


@given(st.text(max_size=12) | st.text("0123456789/.,'\" -ftincm", max_size=12), units)
def test_any_text_is_read_or_refused_with_a_place_in_it(text, unit) -> None:
    try:
        parse_length(ParseLength(text=text, unit=unit))
    except NotALength as fault:
        assert 0 <= fault.details["at"] <= len(text)
        assert fault.field == "text"


@pytest.mark.parametrize(
    ("text", "unit", "mm", "taken_in"),
    [
        ("543", "mm", 543.0, "mm"),
        ("54.3cm", "mm", 543.0, "cm"),
        ("54,3 cm", "in", 543.0, "cm"),
        ("21 3/8", "in", 542.925, "in"),
        ('21-3/8"', "mm", 542.925, "in"),
        ("21⅜ in", "mm", 542.925, "in"),
        ("5ft 2 1/2", "mm", 1587.5, "ft"),
        ("5' 2-1/2\"", "mm", 1587.5, "ft"),
        ("5'-2\"", "mm", 1574.8, "ft"),
        (".5", "mm", 0.5, "mm"),
        ("-3", "mm", -3.0, "mm"),
        ("+3.5mm", "in", 3.5, "mm"),
        ("0,123", "mm", 0.123, "mm"),
        ("1,2345", "mm", 1.2345, "mm"),
        ("9/8 in", "mm", 28.575, "in"),
        ("5 1/2", "ft", 1676.4, "ft"),
    ],
)
def test_what_people_write(text, unit, mm, taken_in) -> None:
    found = parse_length(ParseLength(text=text, unit=unit))
    assert (found.mm, found.unit) == (mm, taken_in)


@pytest.mark.parametrize(
    ("text", "unit", "at"),
    [
        ("21 3/8", "mm", 6),
        ("1,234", "mm", 1),
        ("-12,345 in", "mm", 3),
        ("12 ft 13", "in", 6),
        ("5 ft 25/2", "in", 5),
        ("7/0", "in", 2),
        ("3 1/00 in", "in", 4),
        ("21 9/8 in", "mm", 6),
        ("5.5 ft 2", "mm", 7),
        ("1/2 ft 3 in", "mm", 7),
        ("", "mm", 0),
        ("  ", "mm", 2),
        ("-", "mm", 1),
        ("1e5", "mm", 1),
        ("abc", "mm", 0),
        ("5 furlongs", "mm", 3),
        ("5 mm 3", "mm", 5),
        ("nan", "mm", 0),
        ("5 c", "mm", 3),
    ],
)
def test_what_is_refused_and_where(text, unit, at) -> None:
    with pytest.raises(NotALength) as caught:
        parse_length(ParseLength(text=text, unit=unit))
    assert caught.value.details["at"] == at
    assert "Write it like" in caught.value.title


def test_two_values_for_one_thing() -> None:
    apart = compare_lengths(CompareLengths(a="8 mm", b="3/8 in"))
    assert (apart.a_mm, apart.b_mm, apart.difference_mm, apart.same) == (8.0, 9.525, 1.525, False)
    assert "apart" in apart.words
    alike = compare_lengths(CompareLengths(a="2 ft", b="609.6", within_mm=0.0))
    assert alike.same
    assert alike.difference_mm == 0
    with pytest.raises(NotALength) as caught:
        compare_lengths(CompareLengths(a="8 mm", b="eight"))
    assert caught.value.field == "b"


@pytest.mark.parametrize(
    "text", ["9" * 5000, "1/" + "9" * 5000, "1 1/" + "9" * 400, "0." + "9" * 5000, "12' " + "9" * 500 + '"']
)
def test_what_is_longer_than_any_length_is_none(text) -> None:
    with pytest.raises(NotALength, match="more than 200 characters") as caught:
        read_length(text)
    assert len(caught.value.title) < 200
