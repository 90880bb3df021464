from django.apps import AppConfig


class OrdersConfig(AppConfig):
    name = "aldrip.orders"
    label = "orders"
