"""What a job will do, in plain sentences, and which of them tell of what is removed or lost."""

from __future__ import annotations

from pinecart.core.decide import Comparison, Intent, OnDifference
from pinecart.core.definition import CHOICE_WORDS, INTENT_WORDS, Definition
from pinecart.core.keeping import CHOICES
from pinecart.core.totals import size_text

COMPARISON_WORDS = {
    Comparison.SINCE_LAST_RUN: "A file is copied only if it is new or changed since the last run.",
    Comparison.SIZE_AND_TIME: (
        "A file is copied only if it is not there, or its size or time differs there."
    ),
    Comparison.CHECKSUM: (
        "A file is copied only if it is not there, or its content differs there: contents are "
        "read for it."
    ),
    Comparison.SIZE: (
        "A file is copied only if it is not there, or its size differs there. Equal sizes count "
        "as equal."
    ),
    Comparison.ALWAYS: "Every file is sent again in every run.",
}


RULE_WORDS = {
    "larger_than": "Takes only files larger than",
    "smaller_than": "Takes only files smaller than",
    "changed_within": "Takes only files changed within the last",
    "unchanged_for": "Takes only files not changed for",
    "since": "Takes only files changed on or after",
    "until": "Takes only files changed on or before",
}


def sentences(definition: Definition) -> list[str]:
    """What the job will do, one consequence a sentence, each once."""
    told = []
    for leg in definition.legs:
        if definition.intent is Intent.REMOVE:
            file = f"the file {leg.source}{leg.one[0]}" if leg.one else ""
            told.append(f"Removes {file or f'the files in {leg.source}'}.")
        elif leg.one:
            told.append(f"Takes {leg.source}{leg.one[0]} and puts it as {leg.target}{leg.one[1]}.")
        else:
            told.append(
                f"Takes from {leg.source} and puts to {leg.target}. The folder's contents "
                "arrive, not the folder."
            )
        if leg.take:
            told.append(f"Takes only: {', '.join(leg.take)}.")
        if leg.leave_out:
            told.append(f"Leaves out: {', '.join(leg.leave_out)}.")
        told += [
            f"{RULE_WORDS[name]} {value}." for name, value in leg.rules if name != "ignore_case"
        ]
        if leg.folders != "with-files":
            told.append(
                "Makes folders only, no files."
                if leg.folders == "only"
                else "Empty folders are made as well."
            )
        if leg.renaming:
            how = (
                f"{leg.renaming.pattern} becomes {leg.renaming.to}"
                if leg.renaming.pattern
                else leg.renaming.to
            )
            told.append(f"Renames on the way: {how}.")
    if definition.intent is Intent.REMOVE:
        return [*told, _aside_words(definition)]
    told.append(INTENT_WORDS[definition.intent])
    if definition.intent is not Intent.TOP_UP:
        told.append(CHOICE_WORDS[definition.on_difference])
    told.append(COMPARISON_WORDS[definition.compare])
    told += [words] if (words := _aside_words(definition)) else []
    if definition.waits_for:
        told.append(
            f"Clears a file at the source only once {' and '.join(definition.waits_for)} "
            "took it as well."
        )
    kept = [name for name in CHOICES if getattr(definition.keep, name)]
    if kept:
        told.append(f"Keeps {' and '.join(kept)}.")
    if definition.keep.storage_class:
        told.append(f"Writes with the storage class {definition.keep.storage_class}.")
    if definition.route == "through-us":
        told.append("Every byte goes through Pine Cart, also inside one storage system.")
    if definition.rate:
        told.append(f"Moves {size_text(definition.rate)} a second at most.")
    if definition.schedule:
        told.append(f"Runs by itself at {definition.schedule.cron} ({definition.schedule.zone}).")
    else:
        told.append("Runs when somebody starts it.")
    return told


def _aside_words(definition: Definition) -> str:
    """What becomes of what is removed or replaced."""
    days = definition.set_aside
    where = f" in {definition.aside_in.rstrip('/')}" if definition.aside_in else ""
    kept = f"set aside{where} for {days} days, and can be brought back" if days else "gone for good"
    if definition.intent in (Intent.MIRROR, Intent.HAND_OVER, Intent.REMOVE):
        what = (
            "What is removed"
            if definition.intent is Intent.REMOVE
            else "What is removed or replaced"
        )
        return f"{what} is {kept}."
    if definition.intent is Intent.TOP_UP or definition.on_difference not in REPLACING:
        return ""  # nothing that exists is touched
    return f"What is replaced is {kept}."


REPLACING = (OnDifference.REPLACE_CHANGED, OnDifference.REPLACE_ALL)


def dangers(definition: Definition) -> list[str]:
    """Those of its sentences that somebody should read twice: what is removed, or lost."""
    told = []
    if definition.intent in (Intent.MIRROR, Intent.HAND_OVER, Intent.REMOVE):
        told += [INTENT_WORDS[definition.intent]]
        told += [
            s
            for s in sentences(definition)
            if definition.intent is Intent.REMOVE and s.startswith("Removes ")
        ]
    if (
        definition.intent is not Intent.TOP_UP
        and definition.on_difference is OnDifference.REPLACE_ALL
    ):
        told += [CHOICE_WORDS[OnDifference.REPLACE_ALL]]
    words = _aside_words(definition)
    return [
        s for s in sentences(definition) if s in told or (s == words and not definition.set_aside)
    ]
