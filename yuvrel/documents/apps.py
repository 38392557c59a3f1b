"""The room of what all documents have in common."""

from django.apps import AppConfig


class DocumentsConfig(AppConfig):
    """Kinds of documents, their numbers, states, links, printed forms and time lines."""

    name = "yuvrel.documents"
    label = "documents"
    default_auto_field = "django.db.models.BigAutoField"
