import click


@click.command()
def serve() -> None:
    pass
