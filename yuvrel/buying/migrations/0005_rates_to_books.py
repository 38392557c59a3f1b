from django.db import migrations


class Migration(migrations.Migration):
    """Rates belong to the books now: the table goes along with what is in it."""

    dependencies = [('buying', '0004_numbers')]

    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[migrations.AlterModelTable('ExchangeRate', 'books_exchangerate')],
            state_operations=[migrations.DeleteModel('ExchangeRate')],
        )
    ]
