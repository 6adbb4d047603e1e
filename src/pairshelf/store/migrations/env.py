"""Alembic's entry: runs on the connection it is handed."""

from alembic import context
from sqlmodel import SQLModel

from pairshelf.store import tables  # noqa: F401 - registers the tables

connection = context.config.attributes["connection"]
context.configure(
    connection=connection,
    target_metadata=SQLModel.metadata,
    include_name=lambda name, type_, _: not (type_ == "table" and (name or "").startswith("procrastinate")),
)
with context.begin_transaction():
    context.run_migrations()
