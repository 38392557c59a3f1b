from django.apps import AppConfig


class StockConfig(AppConfig):
    name = "yuvrel.stock"
    label = "stock"
    default_auto_field = "django.db.models.BigAutoField"
