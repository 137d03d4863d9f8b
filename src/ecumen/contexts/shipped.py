"""The policy of the web server's domain that comes with Ecumen, for machines without the tools.

Made from Debian's reference policy by `bin/make-reference-policy`. It is another machine's policy:
answers that rest on it say so.
"""

from __future__ import annotations

import gzip
import json
import pkgutil
from functools import cache

from ecumen.survey import PolicyTexts


@cache
def shipped_policy() -> PolicyTexts:
    """The texts that the tools printed of the reference policy."""
    packed = pkgutil.get_data("ecumen.contexts", "reference.json.gz")
    assert packed is not None
    return PolicyTexts(**json.loads(gzip.decompress(packed)), shipped=True)
