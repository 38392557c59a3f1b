from django.apps import AppConfig


class BuyingConfig(AppConfig):
    name = "yuvrel.buying"
    label = "buying"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Its documents and its sheet are known from the start."""
        from . import documents, sheet  # noqa: F401
