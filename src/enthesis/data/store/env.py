"""Runs the steps to a newer form on the connection that the store gives (Alembic's own entry)."""

from alembic import context

from enthesis.store.tables import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata)
with context.begin_transaction():
    context.run_migrations()
