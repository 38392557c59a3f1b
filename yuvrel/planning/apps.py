from django.apps import AppConfig


class PlanningConfig(AppConfig):
    name = "yuvrel.planning"
    label = "planning"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Settings and their sheet are known from the start."""
        from . import rule_sheet, rules  # noqa: F401
