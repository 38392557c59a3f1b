from django.apps import AppConfig


class CatalogueConfig(AppConfig):
    name = "yuvrel.catalogue"
    label = "catalogue"
    default_auto_field = "django.db.models.BigAutoField"
