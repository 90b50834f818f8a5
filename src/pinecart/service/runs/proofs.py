"""What a run placed, or an audit found, as lines that the service signs: to hand over to somebody
who has no access to it.
"""

from __future__ import annotations

import json
from collections.abc import Iterator

from django.core.serializers.json import DjangoJSONEncoder
from django.utils import timezone

from pinecart.json_object import JsonObject
from pinecart.service.config.rights import Actor
from pinecart.service.config.settings import STATE
from pinecart.service.runs.facts import RunFacts
from pinecart.service.runs.presentation import run_told
from pinecart.service.runs.selectors.records import all_records
from pinecart.service.trail.services import note
from pinecart.signed_lines import public_text, signed

FORM = "pinecart-proof/1"
OF_RUN = ("id", "kind", "job", "cause", "outcome", "started_at", "ended_at", "sentence", "legs")
OF_OBJECT = ("leg", "key", "key_id", "decision", "reason", "bytes", "done", "checksum", "proof")


def proof_of(run: RunFacts, actor: Actor) -> Iterator[bytes]:
    """The run, then a line for each object that it acted on, or found; then the signature."""
    note(actor, "proof.made", run.job, run=run.pk)
    return signed(_lines(run), STATE.sign_key, timezone.now().isoformat())


def public_key() -> str:
    """With which a proof is checked: Ed25519, base64."""
    return public_text(STATE.sign_key.public_key())


def _lines(run: RunFacts) -> Iterator[bytes]:
    """The head first, with what the run was, then each object of it: what is signed holds
    everything that the proof is about.
    """
    told = run_told(run)
    head = {"form": FORM, "service": STATE.id, "run": _only(told, OF_RUN)}
    yield _line(head)
    for record in all_records(run):
        of_object = _only(record, OF_OBJECT)
        yield _line(of_object)


def _only(told: JsonObject, names: tuple[str, ...]) -> JsonObject:
    return {name: told[name] for name in names if name in told}


def _line(told: JsonObject) -> bytes:
    return json.dumps(told, cls=DjangoJSONEncoder).encode() + b"\n"
