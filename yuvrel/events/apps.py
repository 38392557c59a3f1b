from django.apps import AppConfig


class EventsConfig(AppConfig):
    name = "yuvrel.events"
    label = "outbox"  # as its table has been called from the first
    default_auto_field = "django.db.models.BigAutoField"
