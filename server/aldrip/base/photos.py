"""Photos that people take in the field: read, made small, and stripped of where and with what they were taken."""

import base64
import binascii
import io

MOST = 2_500_000  # characters of a photo as it is sent: leaves close up are full of detail
SIDE = 1600  # pixels of its longer side as it is kept
PIXELS = 24_000_000  # of what is opened at all
QUALITY = 72
HALF = "This is half a photo: it was cut off on its way. Send it again."


class NoPhoto(ValueError):
    """What was sent is no photo that can be kept; its words say why."""


def read_photo(text: str) -> str:
    """A photo as JPEG in base64, at most 1600 pixels long, without what a camera writes into it. Raises NoPhoto."""
    from PIL import Image, ImageOps, UnidentifiedImageError  # loads codecs; only photos need them

    if len(text) > MOST:
        raise NoPhoto(f"The photo is larger than the {MOST // 1000} kB that are kept.")
    try:
        raw = base64.b64decode(text, validate=True)
        with Image.open(io.BytesIO(raw), formats=("JPEG", "PNG", "WEBP")) as found:
            # Whoever prints in this process lets half a picture pass, so its end is looked for here.
            if found.format == "JPEG" and raw.rfind(b"\xff\xd9") < len(raw) // 2:
                raise NoPhoto(HALF)
            if found.width * found.height > PIXELS:
                raise NoPhoto(f"The photo has more than {PIXELS // 1_000_000} million pixels.")
            turned = ImageOps.exif_transpose(found).convert("RGB")
    except (binascii.Error, UnidentifiedImageError, OSError, SyntaxError, Image.DecompressionBombError):
        raise NoPhoto("This is no photo that can be opened; take it again.") from None
    turned.thumbnail((SIDE, SIDE))
    out = io.BytesIO()
    turned.save(out, "JPEG", quality=QUALITY, optimize=True)
    return base64.b64encode(out.getvalue()).decode()
