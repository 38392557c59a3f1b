import django.db.models.deletion
import django.db.models.expressions
import pgtrigger.compiler
import pgtrigger.migrations
import yuvrel.ownership
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('catalogue', '0003_descriptions'),
        ('people', '0003_returns'),
        ('sales', '0007_send_by'),
    ]

    operations = [
        migrations.CreateModel(
            name='Return',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('number', models.CharField(max_length=40)),
                ('state', models.CharField(choices=[('expected', 'Expected'), ('part-received', 'Part Received'), ('received', 'Received'), ('cancelled', 'Cancelled')], default='expected', max_length=14)),
                ('made_at', models.DateTimeField()),
                ('note', models.CharField(blank=True, max_length=300)),
                ('version', models.PositiveIntegerField(default=1)),
                ('company', models.ForeignKey(default=yuvrel.ownership.company_id, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='people.company')),
                ('location', models.ForeignKey(help_text='Where it comes back to', on_delete=django.db.models.deletion.PROTECT, to='people.location')),
                ('order', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='returns', to='sales.salesorder')),
            ],
        ),
        migrations.CreateModel(
            name='ReturnLine',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('quantity', models.DecimalField(decimal_places=3, max_digits=18)),
                ('reason', models.CharField(choices=[('unwanted', 'Unwanted'), ('does not fit', 'Unfit'), ('faulty', 'Faulty'), ('damaged on the way', 'Damaged'), ('wrong item', 'Wrong'), ('came too late', 'Late'), ('other', 'Other')], default='other', max_length=20)),
                ('restocked', models.DecimalField(decimal_places=3, default=0, max_digits=18)),
                ('repair', models.DecimalField(decimal_places=3, default=0, max_digits=18)),
                ('written_off', models.DecimalField(decimal_places=3, default=0, max_digits=18)),
                ('back', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='lines', to='sales.return')),
                ('order_line', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='return_lines', to='sales.orderline')),
            ],
        ),
        migrations.CreateModel(
            name='ReturnPart',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('kind', models.CharField(choices=[('restocked', 'back in stock'), ('repair', 'Repair'), ('written off', 'Written Off')], max_length=11)),
                ('quantity', models.DecimalField(decimal_places=3, max_digits=18)),
                ('value', models.DecimalField(decimal_places=2, max_digits=18)),
                ('at', models.DateTimeField()),
                ('item', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, to='catalogue.item')),
                ('line', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='parts', to='sales.returnline')),
            ],
        ),
        migrations.CreateModel(
            name='CreditNote',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('number', models.CharField(max_length=40)),
                ('external_id', models.CharField(blank=True, help_text="The channel's own refund", max_length=80)),
                ('issued_on', models.DateField()),
                ('issued_at', models.DateTimeField()),
                ('net', models.DecimalField(decimal_places=2, max_digits=18)),
                ('tax', models.DecimalField(decimal_places=2, max_digits=18)),
                ('fee', models.DecimalField(decimal_places=2, default=0, help_text='Kept for taking the goods back, with tax', max_digits=18)),
                ('total', models.DecimalField(decimal_places=2, max_digits=18)),
                ('refunded', models.DecimalField(decimal_places=2, help_text='Of the total: goes back to who paid; the rest was still owed', max_digits=18)),
                ('stated', models.DecimalField(decimal_places=2, help_text="What goes back, in the channel's currency where that is another", max_digits=18, null=True)),
                ('method', models.CharField(blank=True, help_text='How it was paid back, as the channel says', max_length=60)),
                ('note', models.CharField(blank=True, max_length=300)),
                ('tell_channel', models.BooleanField(default=False, help_text='The channel pays it back')),
                ('told_channel_at', models.DateTimeField(null=True)),
                ('company', models.ForeignKey(default=yuvrel.ownership.company_id, on_delete=django.db.models.deletion.PROTECT, related_name='+', to='people.company')),
                ('order', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='credits', to='sales.salesorder')),
                ('back', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='credits', to='sales.return')),
            ],
        ),
        migrations.CreateModel(
            name='CreditLine',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('quantity', models.DecimalField(decimal_places=3, max_digits=18)),
                ('net', models.DecimalField(decimal_places=2, max_digits=18)),
                ('tax', models.DecimalField(decimal_places=2, max_digits=18)),
                ('order_line', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='credit_lines', to='sales.orderline')),
                ('note', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='lines', to='sales.creditnote')),
            ],
        ),
        migrations.CreateModel(
            name='ShipmentPart',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('quantity', models.DecimalField(decimal_places=3, max_digits=18)),
                ('cost', models.DecimalField(decimal_places=2, max_digits=18)),
                ('item', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, to='catalogue.item')),
                ('line', models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name='parts', to='sales.shipmentline')),
            ],
        ),
        migrations.AddField(
            model_name='orderline',
            name='credited',
            field=models.DecimalField(decimal_places=3, default=0, max_digits=18),
        ),
        migrations.AddField(
            model_name='orderline',
            name='credited_net',
            field=models.DecimalField(decimal_places=2, default=0, max_digits=18),
        ),
        migrations.AddField(
            model_name='orderline',
            name='credited_tax',
            field=models.DecimalField(decimal_places=2, default=0, max_digits=18),
        ),
        migrations.AlterField(
            model_name='orderline',
            name='returned',
            field=models.DecimalField(decimal_places=3, default=0, help_text='On returns that were not cancelled', max_digits=18),
        ),
        migrations.AddConstraint(
            model_name='orderline',
            constraint=models.CheckConstraint(condition=models.Q(('returned__gte', 0), ('returned__lte', models.F('shipped'))), name='line_not_overreturned'),
        ),
        migrations.AddConstraint(
            model_name='orderline',
            constraint=models.CheckConstraint(condition=models.Q(('credited__gte', 0), ('credited__lte', models.F('invoiced'))), name='line_not_overcredited'),
        ),
        migrations.AddConstraint(
            model_name='creditline',
            constraint=models.UniqueConstraint(fields=('note', 'order_line'), name='credit_line_once'),
        ),
        migrations.AddIndex(
            model_name='return',
            index=models.Index(fields=['state', '-id'], name='return_state'),
        ),
        migrations.AddConstraint(
            model_name='return',
            constraint=models.UniqueConstraint(fields=('company', 'number'), name='return_number_once'),
        ),
        migrations.AddConstraint(
            model_name='creditnote',
            constraint=models.UniqueConstraint(fields=('company', 'number'), name='credit_number_once'),
        ),
        migrations.AddConstraint(
            model_name='creditnote',
            constraint=models.UniqueConstraint(condition=models.Q(('external_id', ''), _negated=True), fields=('order', 'external_id'), name='credit_once_per_refund'),
        ),
        migrations.AddConstraint(
            model_name='creditnote',
            constraint=models.CheckConstraint(condition=models.Q(('fee__gte', 0), ('total__gte', 0)), name='credit_not_negative'),
        ),
        migrations.AddConstraint(
            model_name='creditnote',
            constraint=models.CheckConstraint(condition=models.Q(('refunded__gte', 0), ('refunded__lte', models.F('total'))), name='credit_refunded_within'),
        ),
        migrations.AddConstraint(
            model_name='creditnote',
            constraint=models.CheckConstraint(condition=models.Q(('total', django.db.models.expressions.CombinedExpression(models.F('net'), '+', models.F('tax')))), name='credit_adds_up'),
        ),
        migrations.AddConstraint(
            model_name='returnline',
            constraint=models.UniqueConstraint(fields=('back', 'order_line'), name='return_line_once'),
        ),
        migrations.AddConstraint(
            model_name='returnline',
            constraint=models.CheckConstraint(condition=models.Q(('quantity__gte', 0), ('repair__gte', 0), ('restocked__gte', 0), ('written_off__gte', 0)), name='return_line_not_negative'),
        ),
        migrations.AddConstraint(
            model_name='returnline',
            constraint=models.CheckConstraint(condition=models.Q(('quantity__gte', django.db.models.expressions.CombinedExpression(django.db.models.expressions.CombinedExpression(models.F('restocked'), '+', models.F('repair')), '+', models.F('written_off')))), name='return_line_within'),
        ),
        migrations.AddConstraint(
            model_name='returnpart',
            constraint=models.CheckConstraint(condition=models.Q(('quantity__gt', 0)), name='return_part_positive'),
        ),
        pgtrigger.migrations.AddTrigger(
            model_name='returnpart',
            trigger=pgtrigger.compiler.Trigger(name='return_part_append_only', sql=pgtrigger.compiler.UpsertTriggerSql(func="RAISE EXCEPTION 'pgtrigger: Cannot update or delete rows from % table', TG_TABLE_NAME;", hash='980be8e180cfe69ed63356a0bb29921655b49a02', operation='UPDATE OR DELETE', pgid='pgtrigger_return_part_append_only_741d7', table='sales_returnpart', when='BEFORE')),
        ),
        migrations.AddConstraint(
            model_name='shipmentpart',
            constraint=models.UniqueConstraint(fields=('line', 'item'), name='shipment_part_once'),
        ),
    ]
