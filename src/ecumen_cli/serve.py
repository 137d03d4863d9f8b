"""`ecumen serve`: the web application with the stored records."""

from __future__ import annotations

import click


@click.command()
@click.option("--port", default=8420, show_default=True, type=click.IntRange(1, 65535))
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
def serve(port: int, host: str) -> None:
    """Serves the web application with the stored records."""
    from ecumen_web import server

    server.prepare()
    password = server.ensure_account("admin")
    click.echo(f"Ecumen is at http://{host}:{port}/  (account: admin, password: {password})")
    server.run(host, port)
