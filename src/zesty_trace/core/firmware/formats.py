"""What sort of file is this: an image that can be flashed, or something else that was given that name.

Known by content, not by the name. Signatures are those of the formats' own specifications (from memory).
"""

from __future__ import annotations

import re
from typing import Literal

from zesty_trace.errors import InputError

Sort = Literal["hex", "srec", "elf", "binary"]
_FOREIGN = (
    (b"MZ", "a program for a desktop computer"),
    (b"PK\x03\x04", "a zip archive"),
    (b"PK\x05\x06", "a zip archive"),
    (b"\x1f\x8b", "a gzip archive"),
    (b"BZh", "a bzip2 archive"),
    (b"\xfd7zXZ\x00", "an xz archive"),
    (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
    (b"Rar!\x1a\x07", "a rar archive"),
    (b"\x28\xb5\x2f\xfd", "a zstd archive"),
    (b"UF2\n", "a UF2 file"),
    (b"DfuSe", "a DfuSe file"),
    (b"%PDF", "a PDF document"),
    (b"\x89PNG", "a picture"),
    (b"\xff\xd8\xff", "a picture"),
    (b"GIF8", "a picture"),
    (b"RIFF", "a sound or a film"),
    (b"SQLite format 3", "a database"),
    (b"!<arch>\n", "a library of object files"),
    (b"\xca\xfe\xba\xbe", "a program for a desktop computer"),
    (b"\xcf\xfa\xed\xfe", "a program for a desktop computer"),
    (b"\xce\xfa\xed\xfe", "a program for a desktop computer"),
    (b"\x00asm", "a WebAssembly program"),
    (b"#!", "a script"),
    (b"\xd0\xcf\x11\xe0", "an office document"),
    (b"BM", "a picture"),
    (b"\x04\x22\x4d\x18", "an lz4 archive"),
    (b"ID3", "a sound"),
    (b"OggS", "a sound"),
)
_TEXT_SHARE = 0.97
_BITMAP_LEAST = 54


def sort_of(data: bytes, name: str) -> Sort:
    """Return the format of an image file. InputError for an empty file and for what is no firmware, with what it is."""
    if not data:
        raise InputError("The file is empty", name, "Build the firmware again")
    for start, words in _FOREIGN:
        if data.startswith(start) and (start != b"BM" or _is_bitmap(data)) and (start != b"MZ" or _is_program(data)):
            raise _no_firmware(words, name)
    if data[257:262] == b"ustar":
        raise _no_firmware("a tar archive", name)
    if data.startswith(b"\x7fELF"):
        return "elf"
    head = data[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")
    if head.startswith(b":") or name.lower().endswith((".hex", ".ihex", ".ihx")):
        return "hex"
    if re.match(rb"S[0-9][0-9A-Fa-f]{6}", head) or name.lower().endswith((".srec", ".s19", ".s28", ".s37", ".mot")):
        return "srec"
    if name.lower().endswith((".exe", ".elf", ".zip", ".sh", ".uf2", ".dfu")):
        raise _no_firmware("a program or an archive by its name", name)
    if data.startswith((b"\xff\xfe", b"\xfe\xff", b"\xef\xbb\xbf")) and _is_wide_text(data):
        raise _no_firmware("a text", name)
    if _is_text(data):
        start_tag = head[:200].lower()
        web = start_tag.startswith(b"<") and any(t in start_tag for t in (b"<html", b"<!doctype", b"<?xml", b"<svg"))
        raise _no_firmware("a web page" if web else "a text", name)
    return "binary"


def _no_firmware(words: str, name: str) -> InputError:
    return InputError(f"This is {words}, not an image", name, "Choose an Intel HEX, S-record, ELF or plain binary file")


def _is_text(data: bytes) -> bool:
    """Whether nearly all bytes are letters, digits, marks and line ends, or valid UTF-8 without control characters."""
    plain = sum(data.count(bytes([b])) for b in (*range(0x20, 0x7F), 9, 10, 13))
    if plain >= _TEXT_SHARE * len(data):
        return True
    if b"\x00" in data:
        return False
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return all(c.isprintable() or c in "\t\r\n" for c in text)


def _is_wide_text(data: bytes) -> bool:
    for code in ("utf-8-sig", "utf-16"):
        try:
            text = data.decode(code)
        except UnicodeDecodeError:
            continue
        shown = sum(c.isprintable() or c in "\t\r\n" for c in text)
        if text and shown >= _TEXT_SHARE * len(text):
            return True
    return False


def _is_bitmap(data: bytes) -> bool:
    return len(data) > _BITMAP_LEAST and int.from_bytes(data[2:6], "little") == len(data)


def _is_program(data: bytes) -> bool:
    """Whether what begins with MZ goes on as a program: two letters alone can begin an image too."""
    at = int.from_bytes(data[60:64], "little")
    return len(data) < 64 or data[at : at + 2] in (b"PE", b"NE", b"LE", b"LX") or data[2:4] != b"\x00\x20"
