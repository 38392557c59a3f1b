from django.apps import AppConfig


class AgreementConfig(AppConfig):
    name = "yuvrel.agreement"
    label = "agreement"
    default_auto_field = "django.db.models.BigAutoField"
