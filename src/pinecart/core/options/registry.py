"""The table of all options, and what they are used in."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from typing import Any

from pinecart.core.decide import Intent, OnDifference
from pinecart.core.form_fields import Choice
from pinecart.core.option_spec import CARRY, JOB, REMOVE, OptionSpec
from pinecart.core.registry import Registry

OPTIONS: Registry[OptionSpec] = Registry("option of a job")
EVERYWHERE = (JOB, CARRY, REMOVE)
KEPT_DAYS = 14  # what is removed is set aside for so long, unless the job says otherwise
REMOVING = (Intent.MIRROR, Intent.HAND_OVER, Intent.REMOVE)
REPLACING = (OnDifference.REPLACE_CHANGED, OnDifference.REPLACE_ALL)
TOUCHING = (Intent.RENEW, Intent.MIRROR, Intent.HAND_OVER)  # what exists there


def of_use(use: str, *, is_of_leg: bool) -> list[OptionSpec]:
    """The options of a job, a one-off transfer or a one-off removal; of a leg, or of the whole."""
    return [o for o in OPTIONS.values() if o.is_of_leg == is_of_leg and use in o.used_in]


def add(option: OptionSpec) -> OptionSpec:
    return OPTIONS.add(option.name, option)


def choices_of(words: Mapping[Any, str], dangers: Collection[Any] = ()) -> tuple[Choice, ...]:
    return tuple(Choice(str(v), title, v in dangers) for v, title in words.items())


def listed(words: str, values: Iterable[str]) -> str:
    if values:
        return f"{words}: {', '.join(values)}."
    return ""
