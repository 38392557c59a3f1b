from django.db import migrations, models


class Migration(migrations.Migration):
    """Rates belong to the books now: the table came along with what is in it."""

    dependencies = [('books', '0002_documents'), ('buying', '0005_rates_to_books')]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name='ExchangeRate',
                    fields=[
                        ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                        ('currency', models.CharField(max_length=3)),
                        ('day', models.DateField()),
                        ('rate', models.DecimalField(decimal_places=6, max_digits=18)),
                    ],
                    options={
                        'constraints': [
                            models.UniqueConstraint(fields=('currency', 'day'), name='rate_once'),
                            models.CheckConstraint(condition=models.Q(('rate__gt', 0)), name='rate_positive'),
                        ],
                    },
                ),
            ],
        )
    ]
