"""Printed pages: our templates through WeasyPrint, with the fonts that ship and nothing fetched."""

import base64
import io
from functools import lru_cache
from pathlib import Path
from typing import Any

from django.conf import settings
from django.http import HttpResponse
from django.template.loader import render_to_string

FONTS = {
    "Atkinson Hyperlegible Next Variable": "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-wght-normal.woff2",
    "Sofia Sans Condensed Variable": "sofia-sans-condensed/files/sofia-sans-condensed-latin-wght-normal.woff2",
}


@lru_cache(maxsize=1)
def _font_faces() -> str:
    folder = Path(settings.ROOT) / "web" / "node_modules" / "@fontsource-variable"
    return "\n".join(
        f"@font-face {{ font-family: '{name}'; font-weight: 200 900; src: url('{(folder / path).as_uri()}'); }}"
        for name, path in FONTS.items()
        if (folder / path).exists()
    )


@lru_cache(maxsize=1)
def _own_files_only() -> Any:
    """What WeasyPrint may read: our fonts and inline data, and nothing else."""
    from weasyprint.urls import URLFetcher  # loads pango; only printing needs it

    class OwnFiles(URLFetcher):  # type: ignore[misc]
        def fetch(self, url: str, headers: Any = None) -> Any:
            folder = (Path(settings.ROOT) / "web" / "node_modules" / "@fontsource-variable").as_uri()
            if not url.startswith("data:") and (not url.startswith(folder) or ".." in url):
                raise ValueError("nothing is fetched for a printed page")
            return super().fetch(url, headers)

    return OwnFiles(allowed_protocols={"file", "data"}, allow_redirects=False)


def pdf(template: str, facts: dict[str, Any]) -> bytes:
    """A page as PDF."""
    from weasyprint import HTML

    html = render_to_string(template, {**facts, "font_faces": _font_faces()})
    content: bytes = HTML(string=html, url_fetcher=_own_files_only()).write_pdf()
    return content


def answer_pdf(name: str, content: bytes) -> HttpResponse:
    """A PDF shown in the browser under a name of its own."""
    answer = HttpResponse(content, content_type="application/pdf")
    answer["Content-Disposition"] = f'inline; filename="{name}.pdf"'
    return answer


def qr(text: str, *, pixels: bool = False) -> str:
    """A QR code as an inline image; of pixels where hundreds stand in one file, since each drawing is drawn anew."""
    import segno

    out, code = io.BytesIO(), segno.make(text, error="m")
    if pixels:
        code.save(out, kind="png", scale=12, border=0)
    else:
        code.save(out, kind="svg", scale=2, border=0)
    return f"data:image/{'png' if pixels else 'svg+xml'};base64,{base64.b64encode(out.getvalue()).decode()}"
