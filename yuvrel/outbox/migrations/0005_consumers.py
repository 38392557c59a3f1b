from django.db import migrations, models

# Who had worked on an event's kind before each consumer had rows of its own.
WERE = {"availability": "offers", "rules": "offers", "setting": "offers", "price": "prices", "price_list": "prices"}


def give_to_consumers(apps, schema_editor):
    events = apps.get_model("outbox", "Event").objects.filter(done_at=None)
    for kind, consumer in WERE.items():
        events.filter(kind=kind).update(consumer=consumer)


class Migration(migrations.Migration):
    dependencies = [("outbox", "0004_price_events")]
    operations = [
        migrations.RemoveIndex(model_name="event", name="outbox_open"),
        migrations.AddField(
            model_name="event", name="consumer", field=models.CharField(max_length=20, default="messages"), preserve_default=False
        ),
        migrations.RunPython(give_to_consumers, migrations.RunPython.noop),
        migrations.AddIndex(
            model_name="event",
            index=models.Index(fields=["consumer", "id"], name="outbox_open", condition=models.Q(done_at=None)),
        ),
    ]
