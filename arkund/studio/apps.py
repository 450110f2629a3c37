"""The Django application."""

from django.apps import AppConfig


class StudioConfig(AppConfig):
    """Arkund's pages, services and command line."""

    name = "arkund.studio"
    label = "studio"
    default_auto_field = "django.db.models.BigAutoField"
