"""Markings and preferred values, against the eseries library and the examples of the standards."""

from __future__ import annotations

import eseries
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.core.catalogue import markings as m
from zesty_trace.errors import InputError


@pytest.mark.parametrize("count", [3, 6, 12, 24, 48, 96, 192])
def test_series_are_those_of_the_eseries_library(count: int) -> None:
    theirs = [v / 10 if count < 48 else v / 100 for v in eseries.series(eseries.ESeries[f"E{count}"])]
    assert list(m.series(count)) == pytest.approx(theirs)


@given(st.floats(min_value=1e-9, max_value=1e9))
def test_nearest_by_ratio_is_never_off_by_more_than_half_a_step(value: float) -> None:
    """The widest step of E24 is 1.3 to 1.5 (IEC 60063): half of it, by ratio, is 7.4 %."""
    assert abs(m.nearest(value, 24) / value - 1) < 0.0743


@pytest.mark.parametrize(
    ("bands", "ohm", "tolerance"),
    [
        pytest.param("yellow violet red gold", 4700.0, 0.05, id="iec-60062-four-bands"),
        pytest.param("brown black black brown brown", 1000.0, 0.01, id="iec-60062-five-bands"),
        pytest.param("orange orange orange", 33e3, 0.2, id="three-bands-20-percent"),
        pytest.param("red red gold gold", 2.2, 0.05, id="gold-multiplier"),
        pytest.param("brown-red-black-red-green-brown", 12e3, 0.005, id="six-bands"),
    ],
)
def test_colour_bands_are_read(bands: str, ohm: float, tolerance: float) -> None:
    assert m.read_bands(bands) == (pytest.approx(ohm), tolerance)


@given(st.sampled_from(m.series(96)), st.integers(-1, 6), st.sampled_from([0.01, 0.02, 0.05]))
def test_bands_written_are_read_back(value: float, decade: int, tolerance: float) -> None:
    ohm = round(value * 100) * 10.0**decade
    bands = m.write_bands(ohm, 3, tolerance)
    assert m.read_bands(" ".join(bands)) == (pytest.approx(ohm), tolerance)


@pytest.mark.parametrize(
    ("mark", "ohm"),
    [
        pytest.param("472", 4700.0, id="iec-60062-three-digits"),
        pytest.param("4702", 47e3, id="iec-60062-four-digits"),
        pytest.param("4R7", 4.7, id="letter-for-point"),
        pytest.param("R47", 0.47, id="leading-letter"),
        pytest.param("0", 0.0, id="link"),
        pytest.param("01C", 10e3, id="eia-96-first"),
        pytest.param("68X", 49.9, id="eia-96-68-is-499"),
        pytest.param("96A", 976.0, id="eia-96-last"),
    ],
)
def test_chip_markings_are_read(mark: str, ohm: float) -> None:
    assert m.read_chip(mark) == pytest.approx(ohm)


@given(st.sampled_from(m.series(24)), st.integers(-1, 5))
def test_chip_markings_written_are_read_back(value: float, decade: int) -> None:
    ohm = value * 10.0**decade
    assert m.read_chip(m.write_chip(ohm)) == pytest.approx(ohm)


@pytest.mark.parametrize(
    "text", ["pink red red", "red", "red red pink", "red red red black black pink", "gold red red"]
)
def test_bands_that_are_none_name_the_band(text: str) -> None:
    with pytest.raises(InputError) as caught:
        m.read_bands(text)
    assert caught.value.hint


@pytest.mark.parametrize("text", ["97A", "4G7", "", "12345", "00Z"])
def test_markings_that_are_none_are_refused(text: str) -> None:
    with pytest.raises(InputError, match="no chip marking"):
        m.read_chip(text)


def test_values_without_a_mark_and_unknown_series_are_refused() -> None:
    with pytest.raises(InputError, match="3 digit bands"):
        m.write_bands(4990.0, 2)
    with pytest.raises(ValueError, match="no E13"):
        m.series(13)
    with pytest.raises(ValueError, match="above zero"):
        m.nearest(0.0)
