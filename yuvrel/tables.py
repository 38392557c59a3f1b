"""What migrations are made of, beside Django's own steps."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import ClassVar

from django.db import migrations
from django.db.backends.base.schema import BaseDatabaseSchemaEditor
from django.db.migrations.operations.base import Operation
from django.db.migrations.state import ProjectState
from pgtrigger.migrations import AddTrigger


class Together(Operation):
    """Steps that need nothing of one another but that an earlier one's table is there: new tables, their triggers.

    After each step Django draws anew every model that is tied to a changed one. Where every table says whose its rows
    are, that is all of them; here they are drawn once for all steps.
    """

    serialization_expand_args: ClassVar[list[str]] = ["operations"]

    def __init__(self, operations: Sequence[Operation]) -> None:
        self.operations = operations

    def state_forwards(self, app_label: str, state: ProjectState) -> None:
        # What was drawn so far; without it nothing is drawn until somebody asks.
        state.__dict__.pop("apps", None)
        for operation in self.operations:
            operation.state_forwards(app_label, state)

    def database_forwards(
        self, app_label: str, schema_editor: BaseDatabaseSchemaEditor, from_state: ProjectState, to_state: ProjectState
    ) -> None:
        for operation in self.operations:
            operation.database_forwards(app_label, schema_editor, from_state, to_state)

    def database_backwards(
        self, app_label: str, schema_editor: BaseDatabaseSchemaEditor, from_state: ProjectState, to_state: ProjectState
    ) -> None:
        """`from_state` is the one with the tables, as for every step that is taken back."""
        for operation in reversed(self.operations):
            # A trigger looks for its table in what is there once it is gone; here the table goes with it.
            after = from_state if isinstance(operation, AddTrigger) else to_state
            operation.database_backwards(app_label, schema_editor, from_state, after)

    def describe(self) -> str:
        return "; ".join(operation.describe() for operation in self.operations)


def hold_together(pairs: Sequence[tuple[str, str, str]], known: Collection[str] = ()) -> list[migrations.RunSQL]:
    """Foreign keys over a row and its company together, for (table, column, table that it points to); checked, as others
    are, when the transaction ends. `known`: tables that are pointed to so already."""
    alone = [
        migrations.RunSQL(
            f"ALTER TABLE {table} ADD CONSTRAINT own_{table} UNIQUE (company_id, id)",
            f"ALTER TABLE {table} DROP CONSTRAINT own_{table}",
        )
        for table in sorted({target for _, _, target in pairs} - set(known))
    ]
    both = [
        migrations.RunSQL(
            f"ALTER TABLE {table} ADD CONSTRAINT own_{table}_{column} FOREIGN KEY (company_id, {column})"
            f" REFERENCES {target} (company_id, id) DEFERRABLE INITIALLY DEFERRED",
            f"ALTER TABLE {table} DROP CONSTRAINT own_{table}_{column}",
        )
        for table, column, target in pairs
    ]
    return [*alone, *both]
