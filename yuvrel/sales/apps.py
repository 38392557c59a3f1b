from django.apps import AppConfig


class SalesConfig(AppConfig):
    name = "yuvrel.sales"
    label = "sales"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Its documents and its sheets are known from the start."""
        from . import customer_sheet, documents, past_sheet  # noqa: F401
