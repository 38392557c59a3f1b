from django.apps import AppConfig


class ChannelsConfig(AppConfig):
    name = "yuvrel.channels"
    label = "channels"
    default_auto_field = "django.db.models.BigAutoField"
