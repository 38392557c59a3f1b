from django.apps import AppConfig


class SalesConfig(AppConfig):
    name = "yuvrel.sales"
    label = "sales"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Its documents are known from the start."""
        from . import documents  # noqa: F401
