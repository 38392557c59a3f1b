"""Steps of a migration that are taken together, and taken back."""

from __future__ import annotations

import pgtrigger
import pytest
from django.db import ProgrammingError, connection, migrations, models, transaction
from django.db.migrations.state import ProjectState
from pgtrigger.migrations import AddTrigger

from yuvrel.tables import Together

pytestmark = pytest.mark.django_db


def _key() -> models.BigAutoField[int, int]:
    return models.BigAutoField(primary_key=True)


def test_tables_and_triggers_come_together_and_go_together() -> None:
    shelf = migrations.CreateModel("Shelf", [("id", _key())])
    jar = migrations.CreateModel("Jar", [("id", _key()), ("shelf", models.ForeignKey("hives.Shelf", models.PROTECT))])
    kept = AddTrigger("jar", pgtrigger.Protect(name="kept", operation=pgtrigger.Delete))
    step = Together([shelf, jar, kept])
    before, after = ProjectState(), ProjectState()
    assert before.apps and after.apps  # drawn, as they are while migrations run
    step.state_forwards("hives", after)
    here = {"hives_shelf", "hives_jar"}
    with connection.schema_editor() as editor:
        step.database_forwards("hives", editor, before, after)
    assert here <= set(connection.introspection.table_names())
    model = after.apps.get_model("hives", "Jar")
    model.objects.create(shelf=after.apps.get_model("hives", "Shelf").objects.create())
    with pytest.raises(ProgrammingError, match="Cannot delete"), transaction.atomic():
        model.objects.all()._raw_delete("default")
    with connection.cursor() as cursor:
        cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")  # a table is not dropped while something is still to be checked
    with connection.schema_editor() as editor:
        step.database_backwards("hives", editor, after, before)
    assert not here & set(connection.introspection.table_names())
