"""Options that the service describes, read in this process."""

from __future__ import annotations

import click
import pytest
from click.testing import CliRunner

from pinecart.cli.forms import FormCommand, given_values
from pinecart.cli.frame import Cart
from pinecart.client import ServiceUnreachable


def field(name, kind="text", **more):
    told = {"name": name, "type": kind, "title": name, "help": f"Help of {name}."}
    return {**told, "example": "", "default": "", "choices": [], "least": 0, "most": 9, **more}


FIELDS = [
    field("board"),
    field("take", "list"),
    field("links", "choice", choices=[{"value": "skip", "title": "Skipped"}]),
    field("most", "number"),
    field("guards", "numbers", choices=[{"value": "removals", "title": "Removals"}]),
    field("rename", "renaming"),
    field("pin", "unseen"),
    field("silence_s", "seconds"),
    field("plain", "flag"),
]


def run(*words, forms=None, stdin=""):
    given = {}

    @click.command(cls=FormCommand, fields=lambda told: told["fields"])
    @click.pass_obj
    def command(cart, **options):
        given.update(given_values(FIELDS, options))

    cart = Cart()
    cart.forms = {"fields": FIELDS} if forms is None else forms
    done = CliRunner().invoke(command, words, obj=cart, input=stdin)
    return done, given


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ((), {}),
        (("--board", "oak"), {"board": "oak"}),
        (("--take", "*.csv", "--take", "a/**"), {"take": ["*.csv", "a/**"]}),
        (("--links", "skip", "--most", "0"), {"links": "skip", "most": 0}),
        (("--guards", "removals=7"), {"guards": {"removals": 7}}),
        (("--rename-to", "{name}"), {"rename": {"pattern": "", "to": "{name}"}}),
        (("--pin-file", "-"), {"pin": "1234"}),
        (("--silence", "2.5", "--plain"), {"silence_s": 2.5, "plain": True}),
    ],
)
def test_what_is_given_becomes_the_forms_values(words, wanted):
    done, given = run(*words, stdin="1234\n")
    assert (done.exit_code, given) == (0, wanted), done.output


@pytest.mark.parametrize("words", [("--links", "eat"), ("--most", "10"), ("--guards", "removals")])
def test_what_a_field_does_not_take_is_wrong_use(words):
    assert run(*words)[0].exit_code == 2


def test_help_names_every_field():
    told = run("--help")[0].output
    assert all(f"Help of {f['name']}." in told for f in FIELDS if f["name"] != "rename")


def test_without_a_service_help_says_so_and_an_option_is_its_error():
    class Away(Cart):
        @property
        def forms(self):
            raise ServiceUnreachable("Nobody answers.", code="service.unreachable")

    command = FormCommand("x", callback=lambda: None, fields=lambda told: [])
    assert "can't be asked now" in CliRunner().invoke(command, ["--help"], obj=Away()).output
    done = CliRunner().invoke(command, ["--board", "oak"], obj=Away())
    assert isinstance(done.exception, ServiceUnreachable)
