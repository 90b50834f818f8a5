"""What shall be true afterwards."""

from __future__ import annotations

from pinecart.core.decide import Intent
from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import (
    Chosen,
    OptionSpec,
    always,
)
from pinecart.core.options.registry import (
    REMOVING,
    add,
    choices_of,
)

INTENT_WORDS = {
    Intent.TOP_UP: "Adds what is missing there. Nothing that exists there is touched.",
    Intent.RENEW: "Adds what is new and replaces what changed. Nothing is removed.",
    Intent.MIRROR: (
        "Makes an exact copy: adds, replaces, and removes there what the source no longer has."
    ),
    Intent.HAND_OVER: (
        "Moves: adds and replaces, and removes each file at the source once its copy is proven."
    ),
}
INTENT_TITLES = {
    Intent.TOP_UP: "Add what is missing. Nothing that exists there is touched.",
    Intent.RENEW: "Add new, replace changed. Nothing is removed.",
    Intent.MIRROR: "Make an exact copy. Removes there what is gone here.",
    Intent.HAND_OVER: "Move. Removes each file here once its copy is proven.",
}


def _intent_sentence(value: str, chosen: Chosen) -> str:
    return INTENT_WORDS[Intent(value)]


INTENT = add(
    OptionSpec(
        FormField(
            "intent",
            FieldType.CHOICE,
            "What shall be true afterwards",
            "top-up: add what is missing; renew: also replace what changed; mirror: an exact copy, "
            "removes what is gone; hand-over: move, removes at the source after proof.",
            default="renew",
            choices=choices_of(INTENT_TITLES, REMOVING),
        ),
        default=always(Intent.RENEW.value),
        sentence=_intent_sentence,
        is_danger=lambda value, chosen: value in REMOVING,
        is_always_told=True,
    )
)
