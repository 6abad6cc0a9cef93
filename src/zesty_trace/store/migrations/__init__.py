"""The records' schema, version by version.

Each step is a file in `versions`, run by Alembic when records are opened.
"""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Connection, text

from zesty_trace.errors import StoreError
from zesty_trace.store.chain import GUARDS, LOG, SEALS

HEAD = "0002"
SCRIPTS = Path(__file__).parent


class NewerRecords(StoreError):
    """The records are from a newer version of the application: they are whole, and not for this one."""


def _make_new(link: Connection) -> None:
    """Make records of today's schema, where there are none yet: no steps have to be run."""
    for table in (LOG, SEALS):
        table.create(link)
    for statement in GUARDS:
        link.execute(text(statement))
    link.execute(text("CREATE TABLE alembic_version (version_num VARCHAR(32) NOT NULL PRIMARY KEY)"))
    link.execute(text("INSERT INTO alembic_version VALUES (:head)"), {"head": HEAD})


def bring_up(link: Connection, where: str) -> None:
    """Bring the records of an open transaction up to today's schema. StoreError if they are from a newer version."""
    tables = set(link.execute(text("SELECT name FROM sqlite_master WHERE type = 'table'")).scalars())
    known = (
        link.execute(text("SELECT version_num FROM alembic_version")).scalar() if "alembic_version" in tables else None
    )
    if known == HEAD:
        return
    if not tables:
        _make_new(link)
        return
    if known is not None and not list(SCRIPTS.glob(f"versions/r{known}_*.py")):
        raise NewerRecords(
            f"The records are from a newer version (schema {str(known)[:20]}, this one reads up to {HEAD})",
            where,
            "Update the application; the file was not touched",
        )
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(SCRIPTS))
    config.attributes["connection"] = link
    command.upgrade(config, "head")
