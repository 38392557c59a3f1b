from django.db import migrations

FIGURES = {"service": "service_level", "days": "safety_days", "units": "safety_units"}
USUAL = {"cover_days": 30, "safety": "service", "method": "cover", "forecast": "auto"}
NAMES = {"cover_days": "cover_days", "safety": "safety", "method": "reorder", "forecast": "forecast_method"}


def keep_as_settings(apps, schema_editor):
    """What a policy set becomes a value of the item, or of the item at its place; what was usual is inherited."""
    Value = apps.get_model("rules", "SettingValue")
    for row in apps.get_model("planning", "ItemPolicy").objects.all():
        values = {NAMES[name]: getattr(row, name) for name in NAMES if getattr(row, name) != USUAL[name]}
        if row.lead_days is not None:
            values["lead_days"] = row.lead_days
        figure = row.safety_figure * 100 if row.safety == "service" else row.safety_figure
        values[FIGURES[row.safety]] = f"{figure.normalize():f}"
        if row.method == "min_max":
            values |= {name: f"{getattr(row, name).normalize():f}" for name in ("reorder_point", "order_up_to")}
        level = "item" if row.location_id is None else "item at a place"
        for name, value in values.items():
            Value.objects.get_or_create(
                name=name, level=level, subject=row.item_id, within=row.location_id or 0, defaults={"value": value}
            )


class Migration(migrations.Migration):

    dependencies = [
        ("planning", "0006_consumer_rows"),
        ("rules", "0001_initial"),
    ]

    operations = [
        migrations.RunPython(keep_as_settings, migrations.RunPython.noop),
        migrations.DeleteModel(name="ItemPolicy"),
    ]
