"""The room of settings."""

from django.apps import AppConfig


class RulesConfig(AppConfig):
    """Settings that are declared once."""

    name = "yuvrel.rules"
    label = "rules"
    default_auto_field = "django.db.models.BigAutoField"
