"""Events keep the machine's own time, in whatever order; signatures have a table of their own."""

from __future__ import annotations

from alembic import op

from zesty_trace.store.chain import GUARDS, SEALS

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Let the guard of the order look at numbers only, and make room for signatures."""
    op.execute("DROP TRIGGER IF EXISTS log_in_order")
    SEALS.create(op.get_bind(), checkfirst=True)
    for statement in GUARDS:
        op.execute(statement)
