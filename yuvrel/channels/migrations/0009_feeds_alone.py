from django.db import migrations


class Migration(migrations.Migration):

    dependencies = [
        ("channels", "0008_feeds_take_over"),
    ]

    operations = [
        migrations.RemoveConstraint(
            model_name='connection',
            name='not_too_often',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='automatic',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='every_seconds',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='last_exchange_at',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='prices_asked_at',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='resume',
        ),
        migrations.RemoveField(
            model_name='connection',
            name='watermark',
        ),
    ]
