"""What visitors ask most, by the logs: a rehearsal says of it what would come of it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from django.db.models import Max, Sum

from ecumen.audit.scene import Scene, Site
from ecumen.logs.ledger import Dim
from ecumen.passage import Request
from ecumen_web.store.models import DaySum
from ecumen_web.store.translate import clean

MOST = 1000
DAYS = 14  # the last ones of which there are lines


def most_asked(host: str, scene: Scene) -> Iterator[tuple[Site, Request]]:
    """The addresses that were asked most in the last days, the most asked first, with their sites.
    Lines without a site, and of one that is no longer there, tell of none.
    """
    sums = DaySum.objects.filter(site__host=host, dim=Dim.PAGE)
    last = sums.aggregate(last=Max("at"))["last"]
    if last is None:
        return
    site_of = {clean(site.subject): site for site in scene.hosts}
    personal = {
        (site.summary.place, site.summary.path): site
        for site in scene.sites
        if site.summary.personal is not None
    }
    for key, path in _added_up(host, last):
        site = site_of.get(key)
        request = scene.request_for(site, path) if site is not None else None
        if site is not None and request is not None:
            # Its lines stand in the log of the site by whose name it is asked for.
            own = "/".join(path.split("/", 2)[:2]) + "/"
            yield personal.get((site.summary.place, own), site), request


@lru_cache(maxsize=1)
def _added_up(host: str, last: int) -> list[tuple[str, str]]:
    """Sites by their keys, and addresses; once a day, as it reads the sums of two weeks."""
    rows = (
        DaySum.objects.filter(site__host=host, dim=Dim.PAGE, at__gt=last - DAYS)
        .values_list("site__key", "key__text")
        .annotate(asked=Sum("requests"))
        .order_by("-asked", "site__key")[:MOST]
    )
    return [(key, bytes(text).decode("utf-8", "surrogateescape")) for key, text, _ in rows]
