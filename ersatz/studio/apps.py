from django.apps import AppConfig


class StudioConfig(AppConfig):
    name = "ersatz.studio"
    label = "studio"
    default_auto_field = "django.db.models.BigAutoField"
