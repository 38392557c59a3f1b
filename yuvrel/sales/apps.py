from django.apps import AppConfig


class SalesConfig(AppConfig):
    name = "yuvrel.sales"
    label = "sales"
    default_auto_field = "django.db.models.BigAutoField"
