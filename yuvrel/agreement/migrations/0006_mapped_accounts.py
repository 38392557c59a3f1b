"""A mapped account is of the company of its connection, and of that of ours."""

from typing import ClassVar

from django.db import migrations

from yuvrel.ownership import hold_together

PAIRS = (
    ("channels_mappedaccount", "connection_id", "channels_connection"),
    ("channels_mappedaccount", "account_id", "books_account"),
)


class Migration(migrations.Migration):
    """Keys over a row and its company."""

    dependencies: ClassVar[list[tuple[str, str]]] = [("agreement", "0005_own_rows"), ("channels", "0012_mapped_accounts")]
    operations: ClassVar[list[migrations.RunSQL]] = hold_together(PAIRS, known=["channels_connection"])
