"""The gates, in the order in which a request meets them."""

from ecumen.passage.gates import (
    context,
    door,
    ladder,
    name,
    record,
    rule,
    seal,
    serve,
    site,
    way,
)

GATES = (
    name.GATE,
    door.GATE,
    seal.GATE,
    site.GATE,
    way.GATE,
    rule.GATE,
    ladder.GATE,
    context.GATE,
    serve.GATE,
    record.GATE,
)
