"""Numbers as people write them, read and written."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.core import quantities as q
from zesty_trace.errors import InputError


@pytest.mark.parametrize(
    ("text", "value"),
    [
        pytest.param("4k7", 4700.0, id="iec-60062-letter-for-point"),
        pytest.param("2R2", 2.2, id="iec-60062-R"),
        pytest.param("4.7k", 4700.0, id="common-practice"),
        pytest.param("4700", 4700.0, id="plain"),
        pytest.param("100n", 100e-9, id="common-practice-nano"),
        pytest.param("0.1uF", 100e-9, id="with-unit"),
        pytest.param("0,1 µF", 100e-9, id="comma-and-micro-sign"),
        pytest.param("1M", 1e6, id="mega"),
        pytest.param("150mA", 0.15, id="milliampere"),
    ],
)
def test_value_is_read(text: str, value: float) -> None:
    assert q.parse_value(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "4kk7", "abc", "1.2.3", "--5", "10 apples"])
def test_what_is_no_value_is_refused_with_a_hint(text: str) -> None:
    with pytest.raises(InputError, match="is not a value") as caught:
        q.parse_value(text, "line 3")
    assert caught.value.where == "line 3"
    assert "4k7" in caught.value.hint


@given(st.floats(min_value=1e-12, max_value=9e8, allow_nan=False))
def test_short_mark_reads_back_to_three_digits(value: float) -> None:
    assert q.parse_value(q.say_part_value(value)) == pytest.approx(value, rel=6e-3)


@given(st.floats(min_value=1e-11, max_value=1e9))
def test_engineering_notation_reads_back(value: float) -> None:
    assert q.parse_value(q.say(value, "V")) == pytest.approx(value, rel=6e-3)


@pytest.mark.parametrize(
    ("text", "length_nm"),
    [
        pytest.param("12 mil", 304_800, id="1-mil-is-25.4-um-by-definition"),
        pytest.param("1.6", 1_600_000, id="bare-number-is-mm"),
        pytest.param("0.1in", 2_540_000, id="inch"),
        pytest.param("35um", 35_000, id="micrometre"),
    ],
)
def test_length_is_read(text: str, length_nm: int) -> None:
    assert q.parse_length_nm(text) == length_nm


def test_bad_length_says_how_to_write_one() -> None:
    with pytest.raises(InputError, match="12 mil"):
        q.parse_length_nm("wide")


@pytest.mark.parametrize(("text", "address"), [("0x44", 68), ("68", 68), ("0x3C", 60)])
def test_address_in_hex_and_decimal(text: str, address: int) -> None:
    assert q.parse_address(text) == address
    assert q.say_address(address) == f"0x{address:02X} ({address})"


@pytest.mark.parametrize("text", ["128", "-1", "0xFF", "fourty"])
def test_address_out_of_seven_bits_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        q.parse_address(text)


def test_reading_keeps_three_digits_and_the_unit() -> None:
    assert q.say(0.00613, "A") == "6.13 mA"
    assert q.say(0, "V") == "0 V"
    assert q.say(float("inf"), "Ω").startswith("—")
    assert q.say_mm(254_000) == "0.25 mm (10 mil)"
