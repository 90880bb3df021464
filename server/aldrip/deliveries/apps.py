from django.apps import AppConfig


class DeliveriesConfig(AppConfig):
    name = "aldrip.deliveries"
    label = "deliveries"
