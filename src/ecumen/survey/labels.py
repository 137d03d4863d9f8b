"""What a survey holds of security contexts: the texts of the rules, and of the policy."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class PolicyTexts:
    """What the public policy tools print.

    rules: `sesearch -A -s DOMAIN`; types: `seinfo -t -x`; switches: `seinfo -b -x`; ports:
    `seinfo --portcon`; permissive: `seinfo --permissive`. active: switches as they are on the
    machine. shipped: not this machine's policy, but the one that comes with Ecumen.
    """

    domain: str
    rules: str
    types: str
    switches: str
    ports: str = ""
    permissive: str = ""
    active: Mapping[str, bool] = field(default_factory=dict)
    shipped: bool = False


@dataclass(frozen=True, slots=True)
class Labels:
    """files: the texts of the rules by file name (file_contexts and its companions). policy: None
    where nobody could be asked.
    """

    files: Mapping[str, str] = field(default_factory=dict)
    policy: PolicyTexts | None = None
