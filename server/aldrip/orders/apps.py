from django.apps import AppConfig


class OrdersConfig(AppConfig):
    name = "aldrip.orders"
    label = "orders"

    def ready(self) -> None:
        from aldrip.orders import deciding  # noqa: F401  (says what waits in its rooms)
