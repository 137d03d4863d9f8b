"""The exit statuses that other programs may rely on."""

DONE = 0
FOUND = 1
WRONG_INPUT = 2
WITH_GAPS = 3
