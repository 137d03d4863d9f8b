import click


@click.command()
def load() -> None:
    pass
