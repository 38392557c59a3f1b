from django.apps import AppConfig


class ServerConfig(AppConfig):
    name = "yuvrel.server"
    label = "server"
