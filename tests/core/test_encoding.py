"""Tables as spreadsheets of all ages save them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_trace.core.tables.encoding import table_text
from zesty_trace.errors import InputError

TABLE = "ref;kind;value\nR1;resistor;10 kΩ\nC1;ceramic_capacitor;4,7 µF\n"
WESTERN = "ref,kind,value,notes\nC1,ceramic_capacitor,4.7 µF,Gehäuse 25 °C – geprüft\n"


@pytest.mark.parametrize("name", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32"])
def test_unicode_is_read_however_it_was_saved(name: str) -> None:
    assert table_text(TABLE.encode(name), "parts.csv").lstrip("\ufeff") == TABLE


def test_western_text_is_read() -> None:
    assert table_text(WESTERN.encode("cp1252"), "parts.csv") == WESTERN


@pytest.mark.parametrize("name", ["cp437", "cp850"])
def test_other_eight_bit_sets_are_refused_with_the_place(name: str) -> None:
    text = "ref,kind,value\nC1,ceramic_capacitor,100 µF\n"
    with pytest.raises(InputError, match="more than one way") as caught:
        table_text(text.encode(name), "parts.csv")
    assert caught.value.where == "parts.csv line 2, letter 26"


def test_utf_16_cut_short_is_refused() -> None:
    with pytest.raises(InputError, match="breaks off"):
        table_text(TABLE.encode("utf-16")[:-1], "parts.csv")


@given(st.binary(max_size=200))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    where = ""
    try:
        text = table_text(data, "parts.csv")
    except InputError as error:
        text, where = "", error.where
    assert where.startswith("parts.csv") if where else isinstance(text, str)
