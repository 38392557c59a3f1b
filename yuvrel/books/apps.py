from django.apps import AppConfig


class BooksConfig(AppConfig):
    name = "yuvrel.books"
    label = "books"
    default_auto_field = "django.db.models.BigAutoField"
