"""The statuses that the server knows: each other one that a line names is refused, or goes out as
500.

Source: each number from 0 to 699 asked of Debian 12's httpd by Redirect, RewriteRule and
ErrorDocument, which agree (its table of status lines in http_protocol.c).
"""

KNOWN = frozenset(
    (*range(100, 104), *range(200, 209), 226, *range(300, 306), 307, 308, *range(400, 418),
     *range(421, 425), 426, 428, 429, 431, 451, *range(500, 509), 510, 511)
)  # fmt: skip
# What has no content has no type (RFC 9110, sections 15.3.5 and 15.4.5).
WITHOUT_CONTENT = frozenset((204, 304))
