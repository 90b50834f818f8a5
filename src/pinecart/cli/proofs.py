"""Proofs to hand over: what a run placed, or an audit found, signed by the service."""

from __future__ import annotations

import sys
from typing import IO

import click

from pinecart.cli.frame import PROBLEMS, Cart, Words, output_option, say
from pinecart.signed_lines import check


@click.group(cls=Words)
def proof() -> None:
    """Hand over what a run placed, or an audit found, so that anybody can check it.

    \b
    pinecart proof make 12 -o run-12.proof
    """


@proof.command("make")
@click.argument("number", type=int)
@click.option(
    "--output", "-o", type=click.File("wb"), default="-", help="A file; without, standard output."
)
@click.pass_obj
def proof_make(cart: Cart, number: int, output: IO[bytes]) -> None:
    """The names, sizes and checksums of a run or an audit, as signed JSON lines.

    \b
    pinecart proof make 12 -o run-12.proof
    """
    for piece in cart.client.proof(number):
        output.write(piece)


@proof.command("check")
@click.argument("file", type=click.File("rb"))
@click.option("--key", default="", help="The public key that is believed; without, the service's.")
@output_option
def proof_check(cart: Cart, file: IO[bytes], key: str) -> None:
    """Whether a proof, or an exported trail, is as it was signed. With --key no service is asked.

    \b
    pinecart proof check run-12.proof
    """
    if not key:
        key = cart.client.proof_key()
    found = check(file, key)
    sign = "✓" if found.is_good else "✗"
    words = f"{sign} {found.words}"
    cart.show(found._asdict(), lambda: click.echo(words))
    sys.exit(0 if found.is_good else PROBLEMS)


@proof.command("key")
@output_option
def proof_key(cart: Cart) -> None:
    """The public key with which proofs of this service are checked.

    \b
    pinecart proof key
    """
    key = cart.client.proof_key()
    cart.show({"public_key": key}, lambda: click.echo(key))
    say("Give it to whoever gets a proof, by another way than the proof.")
