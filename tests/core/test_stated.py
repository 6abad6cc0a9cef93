"""Values as people write them: right, or refused with a reason; never a factor of a thousand off."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.core.stated import leading_value, parse_value, rating, read_stated, stated_problem
from zesty_trace.errors import InputError


@pytest.mark.parametrize(
    ("text", "value", "unit"),
    [
        ("10 k", 10e3, ""),
        ("100 nF", 100e-9, "F"),
        ("10 kΩ", 10e3, "Ω"),
        ("10 kohm", 10e3, "Ω"),
        ("10 k ohm", 10e3, "Ω"),
        ("4,7k", 4700.0, ""),
        ("4k7", 4700.0, ""),
        ("R47", 0.47, "Ω"),
        ("0", 0.0, ""),
        ("0R", 0.0, "Ω"),
        ("330 R", 330.0, "Ω"),
        ("1Meg", 1e6, ""),
        ("1 MΩ", 1e6, "Ω"),
        ("0,1µF", 1e-7, "F"),
        (".1uF", 1e-7, "F"),
        ("100uf", 1e-4, "F"),
        ("22pF NP0", 22e-12, "F"),
        ("6.8 µH 2 A", 6.8e-6, "H"),
        ("3V6", 3.6, "V"),
        ("16 MHz", 16e6, "Hz"),
        ("1e3", 1000.0, ""),
    ],
)
def test_it_is_read_right(text: str, value: float, unit: str) -> None:
    found = read_stated(text)
    assert (found.value, found.unit) == (pytest.approx(value), unit)


@pytest.mark.parametrize(
    "text",
    ["1,000", "1 000", "1.500", "10 kilo", "4 k 7", "1k2k", "1/4 W", "red", "1.2.3", "10 0 n", "1e999", "47 x 2"],
)
def test_what_can_be_read_two_ways_or_not_at_all_is_refused(text: str) -> None:
    with pytest.raises(InputError) as caught:
        read_stated(text, "parts.csv line 2")
    assert caught.value.where == "parts.csv line 2"
    assert caught.value.hint
    assert leading_value(text) is None


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("100u 6,3 V", "V", 6.3),
        ("100nF/50V X7R", "V", 50.0),
        ("10k 1/4 W", "W", 0.25),
        ("10k 1/4W", "W", 0.25),
        ("2k2 1%", "%", 1.0),
        ("2k2±5%", "%", 5.0),
        ("3.8 400 mAh", "Ah", 0.4),
        ("12 V 2 A", "A", 2.0),
        ("12 V 2 A", "V", 12.0),
    ],
)
def test_ratings_beside_a_value(text: str, unit: str, value: float) -> None:
    assert rating(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "unit", "word"),
    [
        ("100", "F", "no unit"),
        ("104", "F", "no unit"),
        ("10k", "F", "no part is"),
        ("10 mF", "F", "millionths"),
        ("100n", "Ω", "no part is"),
        ("10 nF", "Ω", "in F"),
        ("-5", "Ω", "not above zero"),
        ("10", "H", "no unit"),
    ],
)
def test_a_value_that_its_kind_cannot_have_is_told(text: str, unit: str, word: str) -> None:
    problem = stated_problem(text, unit)
    assert problem
    assert word in problem[0]


PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "k": 1e3, "M": 1e6}


@given(st.integers(1, 999), st.integers(0, 9), st.sampled_from(sorted(PREFIXES)), st.sampled_from(["Ω", "F", "H", ""]))
def test_every_way_of_writing_gives_the_same(whole: int, tenth: int, letter: str, unit: str) -> None:
    """IEC 60062: 4k7 is 4.7 k; with a comma, a space, or the unit beside it the value stays."""
    value = (whole + tenth / 10) * PREFIXES[letter]
    for text in (
        f"{whole}{letter}{tenth}{unit}",
        f"{whole}.{tenth}{letter}{unit}",
        f"{whole},{tenth} {letter}{unit}",
        f"{whole}.{tenth} {letter} {unit}",
    ):
        assert parse_value(text) == pytest.approx(value)


@pytest.mark.campaign  # the table of letters is made on first use
@given(st.text(max_size=12))
def test_nothing_but_a_value_or_words_comes_out(text: str) -> None:
    value = leading_value(text)
    assert value is None or value == 0 or 1e-18 <= abs(value) <= 1e15
