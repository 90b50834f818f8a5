"""What a job will do, in plain sentences, and which of them tell of what is removed or lost."""

from __future__ import annotations

from typing import NamedTuple

from pinecart.core.decide import Intent
from pinecart.core.definition import Definition, Leg, use_of
from pinecart.core.option_spec import REMOVE
from pinecart.core.options import OPTIONS, of_use


class Sentence(NamedTuple):
    """One consequence. is_danger: it tells of what is removed or lost."""

    words: str
    is_danger: bool = False


def sentences(definition: Definition) -> list[str]:
    """What the job will do, one consequence a sentence: first what removes or loses something."""
    return [sentence.words for sentence in _told(definition)]


def dangers(definition: Definition) -> list[str]:
    """Those of its sentences that somebody should read twice."""
    return [sentence.words for sentence in _told(definition) if sentence.is_danger]


def _told(definition: Definition) -> list[Sentence]:
    use = use_of(definition.job)
    options = definition.options
    told: list[Sentence] = []
    for leg in definition.legs:
        told += _of_leg(leg, definition.intent)
    for option in of_use(use, is_of_leg=False):
        value = definition[option.name]
        words = option.sentence(value, options)
        if words:
            told.append(Sentence(words, option.is_danger(value, options)))
    if use != REMOVE:
        told.append(Sentence(_when(definition)))
    return sorted(told, key=lambda sentence: not sentence.is_danger)


def _of_leg(leg: Leg, intent: Intent) -> list[Sentence]:
    is_danger = intent is Intent.REMOVE
    told = [Sentence(_places(leg, intent), is_danger)]
    for name, value in leg.options.items():
        option = OPTIONS[name]
        words = option.sentence(value, leg.options)
        if words:
            told.append(Sentence(words, option.is_danger(value, leg.options)))
    return told


def _places(leg: Leg, intent: Intent) -> str:
    if intent is Intent.REMOVE:
        what = f"the file {leg.source}{leg.one[0]}" if leg.one else f"the files in {leg.source}"
        return f"Removes {what}."
    if leg.one:
        return f"Takes {leg.source}{leg.one[0]} and puts it as {leg.target}{leg.one[1]}."
    return (
        f"Takes from {leg.source} and puts to {leg.target}. The folder's contents arrive, not "
        "the folder."
    )


def _when(definition: Definition) -> str:
    if definition.trigger:
        return f"Runs by itself {definition.trigger.describe()}."
    return "Runs when somebody starts it."
