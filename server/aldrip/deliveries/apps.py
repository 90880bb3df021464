from typing import Any

from django.apps import AppConfig


class DeliveriesConfig(AppConfig):
    name = "aldrip.deliveries"
    label = "deliveries"

    def ready(self) -> None:
        from aldrip.accounts import taking_back
        from aldrip.deliveries import deciding  # noqa: F401  (says what waits in its rooms)

        def withdrawn(ctx: Any, reason: str) -> dict[str, Any]:
            return {"delivery": None, "withdrawn_at": ctx.now, "withdrawn_because": reason}

        taking_back.STAYS["deliveries_document"] = withdrawn
