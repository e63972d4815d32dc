"""kivvet list"""

import click


@click.command("list")
def command() -> None:
    """x"""
