"""A job turned round: from where it put to, to where it took from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pinecart.core.errors import Invalid
from pinecart.json_object import JsonObject


def turned_round(legs: Sequence[Mapping[str, Any]]) -> list[JsonObject]:
    """The legs of a definition as JSON, the other way.

    Raises Invalid where names change on the way: there is no telling what they were.
    """
    problems = []
    turned = []
    for number, leg in enumerate(legs):
        if leg.get("rename") or leg.get("one"):
            message = (
                f"Leg {number + 1} renames on the way, or takes one file under another name: it "
                "can't be turned round. Define the way back by hand."
            )
            problems.append(
                {"field": f"legs[{number}].rename", "code": "job.not-to-turn", "message": message}
            )
        turned.append({**leg, "from": leg["to"], "to": leg["from"]})
    if problems:
        raise Invalid(problems)
    return turned
