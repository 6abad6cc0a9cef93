"""The text of a table in whichever way it was saved: UTF-8, UTF-16, or the western eight-bit set where it is certain.

Spreadsheets save UTF-16 with a mark, without one every other byte of a table is zero; older ones save eight-bit
western text (Windows code page 1252, of which ISO 8859-1 is a part). Where another set would read other letters, it
is refused with the place.
"""

from __future__ import annotations

import codecs
import re

from zesty_trace.errors import InputError

MARKS = (
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
LETTERS = "ÄÖÜäöüßÀÁÂÃÅÆÇÈÉÊËÌÍÎÏÑÒÓÔÕØÙÚÛÝàáâãåæçèéêëìíîïñòóôõøùúûýÿ"
SIGNS = "µ°±²³¼½¾×€–—‘’“”…•«»"
CERTAIN = set((LETTERS + SIGNS).encode("cp1252"))
ZEROS_SHARE = 0.8  # of the bytes of one side, in UTF-16 of western text
_UNIT = re.compile(rb"\d\s?([\x80-\xb4\xb6-\xff])[FHAVsm]\b")  # a micro sign in another set than the western one


def table_text(data: bytes, where: str) -> str:
    """Return the text of a table. InputError with the place of the first byte that can be read in two ways."""
    for mark, name in MARKS:
        if data.startswith(mark):
            return _whole(data, name, where)
    sides = [data[k::2].count(0) / max(len(data[k::2]), 1) for k in (0, 1)]
    if len(data) % 2 == 0 and max(sides) > ZEROS_SHARE and min(sides) < 1 - ZEROS_SHARE:
        return _whole(data, "utf-16-le" if sides[1] > sides[0] else "utf-16-be", where)
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        return _western(data, where, error.start)


def _whole(data: bytes, name: str, where: str) -> str:
    try:
        return data.decode(name)
    except UnicodeDecodeError as error:
        said = f"It begins as {name.upper()} and breaks off at byte {error.start:,}"
        raise InputError(said, where, "Save it again, as UTF-8") from error


def _western(data: bytes, where: str, first: int) -> str:
    """Return eight-bit western text, if every byte past ASCII is one that such tables hold."""
    doubtful = next((k for k, byte in enumerate(data) if byte > 127 and byte not in CERTAIN), None)
    unit = _UNIT.search(data)
    if doubtful is None and unit is not None:
        doubtful = unit.start(1)
    if doubtful is None and b"\0" not in data:
        return data.decode("cp1252")
    at = first if doubtful is None else doubtful
    line = data.count(b"\n", 0, at) + 1
    column = at - (data.rfind(b"\n", 0, at) + 1) + 1
    said = f"Byte 0x{data[at]:02X}, the {at + 1:,}th, is no UTF-8 and can be read in more than one way"
    raise InputError(said, f"{where} line {line}, letter {column}", "Save it as UTF-8")
