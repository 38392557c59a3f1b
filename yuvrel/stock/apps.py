from django.apps import AppConfig


class StockConfig(AppConfig):
    name = "yuvrel.stock"
    label = "stock"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Its documents and its sheet are known from the start."""
        from . import documents, sheet, transfer_queries, valuation  # noqa: F401
