from django.apps import AppConfig


class PlanningConfig(AppConfig):
    name = "yuvrel.planning"
    label = "planning"
    default_auto_field = "django.db.models.BigAutoField"
