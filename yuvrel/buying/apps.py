from django.apps import AppConfig


class BuyingConfig(AppConfig):
    name = "yuvrel.buying"
    label = "buying"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Its sheet is known from the start."""
        from . import sheet  # noqa: F401
