"""One chain of checksummed events that only grows; what earlier versions kept in two tables is copied into it."""

from __future__ import annotations

from alembic import op

from zesty_trace.store.chain import GUARDS, LOG, take_over_first_version

revision = "0001"
down_revision = None


def upgrade() -> None:
    """Make the chain where it is not there yet."""
    link = op.get_bind()
    LOG.create(link, checkfirst=True)
    for statement in GUARDS:
        op.execute(statement)
    take_over_first_version(link)
