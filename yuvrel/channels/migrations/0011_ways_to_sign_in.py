"""A token becomes one of several ways to sign in."""

import json

from django.db import migrations, models


def as_entries(apps, schema_editor):
    from yuvrel.channels.credentials import seal, unseal

    for row in apps.get_model("channels", "Connection").objects.exclude(secrets_sealed=""):
        row.secrets_sealed = seal(json.dumps({"token": unseal(row.secrets_sealed)}))
        row.save(update_fields=["secrets_sealed"])


def as_tokens(apps, schema_editor):
    from yuvrel.channels.credentials import seal, unseal

    for row in apps.get_model("channels", "Connection").objects.exclude(secrets_sealed=""):
        row.secrets_sealed = seal(json.loads(unseal(row.secrets_sealed)).get("token", ""))
        row.save(update_fields=["secrets_sealed"])


class Migration(migrations.Migration):
    dependencies = [("channels", "0010_runs_that_did_something")]

    operations = [
        migrations.RenameField("connection", "token_sealed", "secrets_sealed"),
        migrations.AlterField(
            "connection",
            "secrets_sealed",
            models.TextField(blank=True, help_text="What was entered and is one, as sealed JSON"),
        ),
        migrations.AddField(
            "connection",
            "account",
            models.JSONField(default=dict, help_text="What was entered to sign in and is no secret"),
        ),
        migrations.RunPython(as_entries, as_tokens),
    ]
