from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "yuvrel.people"
    label = "people"
    default_auto_field = "django.db.models.BigAutoField"
