"""Reading a design back from its JSON: whole and checked, or one error that says what is wrong."""

from __future__ import annotations

from functools import cache

import msgspec

from zesty_trace.core.design.check import FILE, check_design
from zesty_trace.core.design.model import SCHEMA_VERSION, Design
from zesty_trace.errors import InputError


class NewerSchema(InputError):
    """The design is from a newer version of the application."""


@cache
def _head() -> msgspec.json.Decoder[object]:
    class Head(msgspec.Struct):
        schema: int = 0

    return msgspec.json.Decoder(Head)


def from_json(data: bytes, where: str = FILE) -> Design:
    """Return the design in `data`, older schemas brought up, checked as a whole. InputError, NewerSchema.

    Schema 1 lacks fields that have defaults; nothing of it changed its meaning.
    """
    try:
        version = getattr(_head().decode(data), "schema", 0)
        if version > SCHEMA_VERSION:
            raise NewerSchema(
                f"The project is from a newer version (schema {version}, this one reads up to {SCHEMA_VERSION})",
                where,
                "Update the application; the file was not touched",
            )
        design = msgspec.json.decode(data, type=Design)
    except (msgspec.MsgspecError, UnicodeError, ValueError, RecursionError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError(f"It is not a whole design: {error}", where, "Bring back a copy of the file") from error
    design = msgspec.structs.replace(design, schema=SCHEMA_VERSION)
    check_design(design)
    return design
