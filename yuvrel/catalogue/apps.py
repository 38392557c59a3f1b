from django.apps import AppConfig


class CatalogueConfig(AppConfig):
    name = "yuvrel.catalogue"
    label = "catalogue"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Settings and their ways are known from the start."""
        from . import rungs, sheet, text_sheet  # noqa: F401
