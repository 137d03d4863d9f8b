"""What a word in the address line may mean: an account, or a site."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen_web.store.models import SurveyRecord
from ecumen_web.surveys.loading import scene_of

MOST = 8
_LOOKED_AT = 2_000  # sites that hold the letters


@dataclass(frozen=True, slots=True)
class LookupHit:
    """kind: account or site. at: where a site is declared; "" for an account. detail: its home, or
    what its front page does.
    """

    kind: str
    name: str
    detail: str
    at: str = ""


def lookup(record: SurveyRecord, words: str) -> list[LookupHit]:
    """At most MOST; what has just this name first, then what begins with it; of those that fit
    alike, accounts go first.
    """
    word = words.strip().lower()
    if not word:
        return []
    ranked: list[tuple[int, int, str, LookupHit]] = []
    for account in scene_of(record.file).survey.accounts:
        if word in account.name.lower():
            hit = LookupHit("account", account.name, account.home)
            ranked.append((_rank(account.name, word), 0, account.name, hit))
    sites = record.sites.filter(name__icontains=word, personal=False)
    for site in sites.values("name", "declared_at", "reason")[:_LOOKED_AT]:
        name = str(site["name"])
        hit = LookupHit("site", name, str(site["reason"]), str(site["declared_at"]))
        ranked.append((_rank(name, word), 1, name, hit))
    ranked.sort(key=lambda each: each[:3])
    return [hit for *_, hit in ranked[:MOST]]


def _rank(name: str, word: str) -> int:
    name = name.lower()
    return 0 if name == word else 1 if name.startswith(word) else 2
