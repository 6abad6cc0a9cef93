"""Controllers that can be flashed: memory and identity."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

import msgspec

from zesty_trace.core.catalogue.kinds import suggest
from zesty_trace.errors import InputError


class Target(msgspec.Struct, frozen=True, kw_only=True):
    """One controller. The flash is written in whole rows.

    `uid` is where each chip holds a number of its own, if it does.
    """

    name: str
    title: str
    product_id: int
    flash_start: int
    flash_bytes: int
    page_bytes: int
    row_bytes: int = 4
    ram_start: int = 0
    ram_bytes: int = 0
    uid_address: int = 0
    uid_bytes: int = 0

    @property
    def flash_end(self) -> int:
        """The first address past the flash."""
        return self.flash_start + self.flash_bytes


@cache
def shipped_targets() -> dict[str, Target]:
    """Return the targets that come with the application."""
    text = (files("zesty_trace") / "data" / "targets" / "targets.toml").read_text("utf-8")
    return {n: msgspec.convert({"name": n, **t}, Target) for n, t in tomllib.loads(text).items()}


def find_target(name: str) -> Target:
    """Return a target by name. InputError names near misses."""
    known = shipped_targets()
    if name not in known:
        raise InputError(f"There is no target “{name}”", name, suggest(name, known))
    return known[name]
