from django.db import migrations, models

# Until now every price was in the company's currency.
FILL = "UPDATE channels_priceoffer SET currency = coalesce((SELECT base_currency FROM people_company ORDER BY id LIMIT 1), 'EUR')"


class Migration(migrations.Migration):
    dependencies = [("channels", "0002_tables"), ("people", "0001_tables")]

    operations = [
        migrations.AddField(
            model_name="priceoffer",
            name="currency",
            field=models.CharField(default="EUR", max_length=3),
            preserve_default=False,
        ),
        migrations.RunSQL(FILL, migrations.RunSQL.noop),
    ]
