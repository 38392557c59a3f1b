from django.apps import AppConfig


class ChannelsConfig(AppConfig):
    name = "yuvrel.channels"
    label = "channels"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Settings and their ways are known from the start."""
        from yuvrel.connectors.http import obstacle
        from yuvrel.people.epochs import why_held

        from . import jobs, pair_sheet, price_rules, rule_sheet, rules  # noqa: F401

        obstacle.why = why_held
