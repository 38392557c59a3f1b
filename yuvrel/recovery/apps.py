from django.apps import AppConfig


class RecoveryConfig(AppConfig):
    name = "yuvrel.recovery"
    label = "recovery"
    default_auto_field = "django.db.models.BigAutoField"
