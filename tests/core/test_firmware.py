"""Images against the intelhex library; damaged and oversized ones refused."""

from __future__ import annotations

import hashlib
import io

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from intelhex import IntelHex

from zesty_trace.core.findings import Severity
from zesty_trace.core.firmware.image import Image, Segment, fit_findings, pages_of, parse_image, read_image
from zesty_trace.core.firmware.targets import find_target
from zesty_trace.errors import InputError

TARGET = find_target("zt32-128k")


def hex_text(blocks: dict[int, bytes]) -> bytes:
    made = IntelHex()
    for address, data in blocks.items():
        made.puts(address, data)
    out = io.StringIO()
    made.write_hex_file(out)
    return out.getvalue().encode()


@settings(max_examples=40, deadline=None)
@given(
    st.dictionaries(
        st.integers(0, 200).map(lambda k: 0x10000000 + 700 * k),
        st.binary(min_size=1, max_size=600),
        min_size=1,
        max_size=4,
    )
)
def test_hex_written_by_intelhex_is_read_the_same(blocks: dict[int, bytes]) -> None:
    text = hex_text(blocks)
    image = parse_image(text, "a.hex")
    other = IntelHex(io.StringIO(text.decode()))
    assert [(s.address, s.end) for s in image.segments] == other.segments()
    for s in image.segments:
        assert s.data == other.tobinstr(start=s.address, size=len(s.data))


def test_demo_image_agrees_with_intelhex() -> None:
    from importlib.resources import files

    path = files("zesty_trace") / "data" / "demo" / "proofing" / "proofing-1.0.hex"
    image = parse_image(path.read_bytes(), "proofing-1.0.hex")
    other = IntelHex(io.StringIO(path.read_text()))
    assert image.flat(other.minaddr(), len(other)) == other.tobinstr()
    assert image.sha256 == hashlib.sha256(path.read_bytes()).hexdigest()


@pytest.mark.parametrize(
    ("change", "where"),
    [
        pytest.param(lambda t: t[: len(t) // 2], "line", id="truncated in a record"),
        pytest.param(lambda t: b"\n".join(t.splitlines()[:-1]) + b"\n", "a.hex", id="end record missing"),
        pytest.param(lambda t: t[:30] + (b"1" if t[30:31] != b"1" else b"2") + t[31:], "line 2", id="a digit changed"),
        pytest.param(lambda t: b"", "a.hex", id="empty"),
        pytest.param(lambda t: b":00000001FF\n", "a.hex", id="no data"),
        pytest.param(lambda t: b"\x7fELF" + t, "a.hex", id="a program"),
        pytest.param(lambda t: b":\xff\xfe", "a.hex", id="not text"),
    ],
)
def test_damaged_hex_says_where(change, where: str) -> None:
    text = hex_text({0x10000000: bytes(range(64))})
    with pytest.raises(InputError) as caught:
        parse_image(change(text), "a.hex")
    assert where in caught.value.where
    assert caught.value.hint


def test_binary_sits_at_its_base_and_must_fit_to_the_byte() -> None:
    fits = parse_image(bytes(TARGET.flash_bytes), "a.bin", TARGET.flash_start)
    assert [f.severity for f in fit_findings(fits, TARGET) if f.rule != "image start"] == [Severity.NOTE]
    over = parse_image(bytes(TARGET.flash_bytes + 1), "a.bin", TARGET.flash_start)
    found = fit_findings(over, TARGET)[0]
    assert found.severity is Severity.STOP
    assert "1 bytes too large" in found.title
    assert "outside" in fit_findings(parse_image(b"\x90\x00", "a.bin", 0), TARGET)[0].title


def test_pages_cover_the_image_and_no_more() -> None:
    start = TARGET.flash_start
    image = Image("x", "", (Segment(start + 2040, bytes(16)), Segment(start + 8192, bytes(1))))
    assert pages_of(image, TARGET) == [0, 1, 4]


def test_missing_file_and_unknown_target_are_told(tmp_path) -> None:
    with pytest.raises(InputError, match="no such file"):
        read_image(tmp_path / "none.hex")
    with pytest.raises(InputError, match="Did you mean"):
        find_target("zt32-128")
