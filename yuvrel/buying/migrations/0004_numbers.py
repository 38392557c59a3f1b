from django.db import migrations

# Orders that were numbered by their id: their series goes on after the last of them.
GO_ON = """
    INSERT INTO documents_numberseries (company_id, kind, last)
    SELECT (SELECT min(id) FROM people_company), 'purchase order', max(substring(number FROM '([0-9]+)$')::bigint)
    FROM buying_purchaseorder WHERE number ~ '^PO-[0-9]+$' HAVING max(id) IS NOT NULL
"""


class Migration(migrations.Migration):

    dependencies = [
        ('buying', '0003_versions'),
        ('documents', '0001_documents'),
    ]

    operations = [migrations.RunSQL(GO_ON, migrations.RunSQL.noop)]
