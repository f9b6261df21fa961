"""Run by Alembic, with the connection that the ledger hands over."""

from alembic import context

from vinestep.runs._schema import metadata

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=metadata,
    render_as_batch=True,
)
with context.begin_transaction():
    context.run_migrations()
