"""The room of price lists."""

from django.apps import AppConfig


class PricingConfig(AppConfig):
    """Lists, what is typed into them, and how prices are changed."""

    name = "yuvrel.pricing"
    label = "pricing"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Make its settings and its sheet known."""
        from . import floor, sheet  # noqa: F401
