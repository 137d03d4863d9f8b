import click


@click.command()
def demo() -> None:
    pass
