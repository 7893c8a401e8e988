"""The part of the command line about secrets: texts that macros type and nobody is to read."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from brass_pebble import paths

from .help_list import OneLineEach
from .shared import Failure

secret_app = typer.Typer(cls=OneLineEach, rich_markup_mode=None, pretty_exceptions_enable=False,
                         help="Secret texts that macros type, kept where only you read them.")


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.add_typer(secret_app, name="secret")

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="what macros call it")]


@secret_app.command("set")
def set_secret(name: NameArgument) -> None:
    """Set a secret.

    It is asked for without showing it, or read from a pipe.
    """
    from brass_pebble.secret_file import SecretError, write_one
    if sys.stdin.isatty():
        import getpass
        text = getpass.getpass(f"Text of “{name}” (not shown): ")
    else:
        text = sys.stdin.read().removesuffix("\n")
    try:
        write_one(paths.secrets_file(), name, text)
    except SecretError as error:
        raise Failure(str(error), "failed") from None
    print(f"Saved “{name}”. A macro types it with: type secret \"{name}\"")


@secret_app.command("list")
def list_secrets() -> None:
    """List the names of all secrets."""
    from brass_pebble.secret_file import SecretError, read_all
    try:
        names = sorted(read_all(paths.secrets_file()))
    except SecretError as error:
        raise Failure(str(error), "failed") from None
    print("\n".join(names) if names else "No secrets yet.")


@secret_app.command("forget")
def forget_secret(name: NameArgument) -> None:
    """Delete a secret."""
    from brass_pebble.secret_file import SecretError, write_one
    try:
        write_one(paths.secrets_file(), name, None)
    except SecretError as error:
        raise Failure(str(error), "failed") from None
    print(f"Deleted “{name}”.")
