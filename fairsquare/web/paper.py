"""Pages on paper: HTML to PDF by WeasyPrint, with files of ours and nothing fetched from elsewhere."""

from pathlib import Path

from markupsafe import Markup
from weasyprint import HTML
from weasyprint.urls import URLFetcher, URLFetcherResponse

STATIC = Path(__file__).parent / "static"


class _OnlyOurs(URLFetcher):  # type: ignore[misc]  # the library has no types
    """Fetches the files of our static folder, and refuses anything else."""

    def fetch(self, url: str, headers: dict[str, str] | None = None) -> URLFetcherResponse:
        if not url.startswith(STATIC.as_uri() + "/") or ".." in url:
            raise ValueError(f"{url} is not ours: nothing is fetched from elsewhere")
        return super().fetch(url, headers)


def drawn_on_paper(drawing: Markup) -> Markup:
    """Return a drawing that carries its own style: on paper the page's style sheet does not reach into it."""
    style = Markup((STATIC / "print-drawing.css").read_text(encoding="utf-8"))  # noqa: S704 - a file of ours
    head, bracket, rest = drawing.partition(">")
    return head + bracket + Markup("<style>{}</style>").format(style) + rest


def pdf_of(page: str) -> bytes:
    """Return a page of HTML as PDF."""
    fetcher = _OnlyOurs(allowed_protocols={"file"}, fail_on_errors=True)
    return bytes(HTML(string=page, base_url=STATIC.as_uri() + "/", url_fetcher=fetcher).write_pdf())
