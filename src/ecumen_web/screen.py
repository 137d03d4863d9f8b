"""The one page of the screen."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.views.decorators.http import require_safe


@require_safe
def screen(request: HttpRequest) -> HttpResponse:
    """The built page; every place of the screen has an address of its own that leads here."""
    page = settings.APP / "index.html"
    if not page.is_file():
        text = "The screen is not built yet: run make app, then start again."
        return HttpResponse(text, content_type="text/plain", status=503)
    response = HttpResponse(page.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    return response
