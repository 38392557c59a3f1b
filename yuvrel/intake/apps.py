from django.apps import AppConfig


class IntakeConfig(AppConfig):
    name = "yuvrel.intake"
    label = "intake"
    default_auto_field = "django.db.models.BigAutoField"
