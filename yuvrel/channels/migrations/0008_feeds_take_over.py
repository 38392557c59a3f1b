from django.db import migrations

PARTS = {"web_shop": "orders", "till": "orders", "supplier": "answers"}


def take_over(apps, schema_editor):
    """How far each connection was read becomes its feeds; its interval becomes its schedule."""
    Feed, Value = apps.get_model("channels", "Feed"), apps.get_model("rules", "SettingValue")
    for row in apps.get_model("channels", "Connection").objects.filter(kind__in=PARTS):
        part = PARTS[row.kind]
        Feed.objects.create(
            connection=row, part=part, watermark=row.watermark, resume=row.resume, asked_at=row.last_exchange_at
        )
        if row.prices_asked_at:
            Feed.objects.create(connection=row, part="prices", watermark=row.prices_asked_at)
        if row.every_seconds != 60:
            Value.objects.create(name=f"{part}_every", level="connection", subject=row.pk, value=row.every_seconds)
        if not row.automatic:
            Value.objects.create(name=f"{part}_when", level="connection", subject=row.pk, value="hand")


class Migration(migrations.Migration):

    dependencies = [
        ("channels", "0007_feeds_and_calls"),
        ("rules", "0001_initial"),
    ]

    operations = [migrations.RunPython(take_over, migrations.RunPython.noop)]
