from django.apps import AppConfig


class StoreConfig(AppConfig):
    name = "ecumen_web.store"
    label = "store"
