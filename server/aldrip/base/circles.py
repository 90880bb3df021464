"""How often Python looks for circles among its objects."""

import gc


def hunt_less() -> None:
    """What is read now stays; looking through it for circles again and again took a fifteenth of every answer."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)
