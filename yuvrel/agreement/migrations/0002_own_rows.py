"""What belongs to a company points to nothing that is another's: the database holds it by itself."""

from typing import ClassVar

from django.db import migrations

from yuvrel.tables import hold_together

# (table, column, table that it points to), where both say whose their rows are.
PAIRS = (
    ("agreement_check", "connection_id", "channels_connection"),
    ("agreement_drift", "connection_id", "channels_connection"),
    ("agreement_drift", "order_id", "sales_salesorder"),
    ("books_journalentry", "reverses_id", "books_journalentry"),
    ("books_ledgerdocument", "entry_id", "books_journalentry"),
    ("books_ledgerdocument", "within_id", "books_ledgerdocument"),
    ("buying_goodsreceipt", "order_id", "buying_purchaseorder"),
    ("buying_purchaseorder", "location_id", "people_location"),
    ("buying_supplierinbox", "connection_id", "channels_connection"),
    ("channels_connection", "fulfils_from_id", "people_location"),
    ("channels_connection", "price_list_id", "pricing_pricelist"),
    ("channels_connection", "their_place_id", "people_location"),
    ("channels_mappedaccount", "account_id", "books_account"),
    ("channels_mappedaccount", "connection_id", "channels_connection"),
    ("channels_snag", "connection_id", "channels_connection"),
    ("channels_snag", "order_id", "sales_salesorder"),
    ("intake_intake", "undoes_id", "intake_intake"),
    ("pricing_pricelist", "parent_id", "pricing_pricelist"),
    ("sales_creditnote", "back_id", "sales_return"),
    ("sales_creditnote", "order_id", "sales_salesorder"),
    ("sales_customer", "group_id", "sales_customergroup"),
    ("sales_customer", "price_list_id", "pricing_pricelist"),
    ("sales_customergroup", "price_list_id", "pricing_pricelist"),
    ("sales_invoice", "shipment_id", "sales_shipment"),
    ("sales_return", "location_id", "people_location"),
    ("sales_return", "order_id", "sales_salesorder"),
    ("sales_salesorder", "connection_id", "channels_connection"),
    ("sales_salesorder", "customer_id", "sales_customer"),
    ("sales_salesorder", "location_id", "people_location"),
    ("sales_shipment", "order_id", "sales_salesorder"),
    ("sales_tillcount", "connection_id", "channels_connection"),
    ("stock_stockdocument", "location_id", "people_location"),
    ("stock_transfer", "destination_id", "people_location"),
    ("stock_transfer", "source_id", "people_location"),
)


class Migration(migrations.Migration):
    replaces: ClassVar[list[tuple[str, str]]] = [
        ("agreement", "0001_tables"),
        ("agreement", "0002_tables"),
        ("agreement", "0003_tables"),
        ("agreement", "0004_companies"),
        ("agreement", "0005_own_rows"),
        ("agreement", "0006_mapped_accounts"),
    ]
    dependencies: ClassVar[list[tuple[str, str]]] = [
        ("agreement", "0001_drawn_together"),
        ("books", "0001_drawn_together"),
        ("buying", "0001_drawn_together"),
        ("channels", "0002_drawn_together"),
        ("intake", "0001_drawn_together"),
        ("people", "0001_drawn_together"),
        ("pricing", "0001_drawn_together"),
        ("sales", "0001_drawn_together"),
        ("stock", "0001_drawn_together"),
    ]
    operations: ClassVar[list[migrations.RunSQL]] = hold_together(PAIRS)
