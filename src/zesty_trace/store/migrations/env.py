"""What Alembic runs: the steps, on the connection and in the transaction that it is given."""

from __future__ import annotations

from alembic import context

context.configure(connection=context.config.attributes["connection"])
context.run_migrations()
