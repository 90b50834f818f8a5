"""Why one file is carried, or isn't: each rule in its order, what it said, which one decided. The
rules are asked by the same functions as in a preview and a run.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

from pinecart.core.decide import Decision, Intent, Reason, Verdict, left_out
from pinecart.core.entries import Entry, Likeness, Row, fingerprint, likeness
from pinecart.core.errors import Missing
from pinecart.core.options.of_jobs import COMPARISON_WORDS
from pinecart.core.places import show
from pinecart.core.selection import RULES, Selection, compile_selection
from pinecart.core.totals import size_text
from pinecart.json_object import JsonObject
from pinecart.runner.closer_look import CloserLook
from pinecart.runner.leg_context import LegContext
from pinecart.runner.side import Side
from pinecart.runner.youngest_there import YoungestThere

VERDICT_WORDS = {
    Reason.NEW: "It is new: it would be copied.",
    Reason.CHANGED: "It changed since it was carried: the one there would be replaced.",
    Reason.MISSING_THERE: "It was carried and is gone there: it would be copied again.",
    Reason.DIFFERS: "The two differ.",
    Reason.UNPROVEN: "Whether the two are equal could not be proven.",
    Reason.SAME: "Nothing changed since it was carried: it stays as it is.",
    Reason.RECOGNISED: "The one there is proven equal: it is remembered, and not sent.",
    Reason.EXISTS: "There is a file of this name already.",
    Reason.CHANGED_THERE: "Somebody changed it there: it would be listed as a problem.",
    Reason.BOTH_CHANGED: "It changed here and there: it would be listed as a problem.",
    Reason.GONE: "It is gone at the source.",
    Reason.FOREIGN: "It is only there, and this job didn't put it there.",
    Reason.PROVEN: "Its copy is proven: it would be cleared at the source.",
    Reason.LEFT_OUT: "A name pattern leaves it out.",
    Reason.OTHER_SIZE: "A size rule leaves it out.",
    Reason.OTHER_TIME: "A time rule leaves it out.",
    Reason.ALWAYS: "Everything is sent again in every run.",
    Reason.NOT_YOUNGER: "It is no younger than the youngest file there.",
    Reason.OVERTAKEN: "It is no longer as the preview saw it, so it was left.",
    Reason.TOO_YOUNG: "It was touched a moment ago: it is left for now.",
    Reason.UNREADABLE: "It may not be read.",
    Reason.NOT_A_FILE: "It is no file that can be carried.",
    Reason.UNSAFE_NAME: "A name like this can't be carried safely.",
}


class RuleAsked(NamedTuple):
    """One rule that was asked. decides: it is the one that settled the matter."""

    rule: str
    words: str
    decides: bool = False


class Explanation(NamedTuple):
    """key: the name there."""

    key: bytes
    steps: list[RuleAsked]
    verdict: Verdict | None


class BothSides(NamedTuple):
    """A file as it lies at either side. key: its name there."""

    key: bytes
    entry: Entry | None
    far: Entry | None


async def look(leg: LegContext, name: bytes) -> BothSides:
    """name: as the file is called at the source, or, if it isn't there, at the destination.

    Raises StoreError where a side can't be asked.
    """
    key = name
    entry = await _entry_at(leg.source, name)
    if leg.renaming and entry:
        key = leg.renaming.new_key(entry, 1)
        entry = entry._replace(key=key, was=name)
    return BothSides(key, entry, await _entry_at(leg.target, key))


async def explain(
    leg: LegContext,
    sides: BothSides,
    row: Row | None,
    options: JsonObject,
    now_ns: int,
    youngest: YoungestThere | None,
) -> Explanation:
    """row: what is remembered of it.   options: of the leg.   youngest: None where it isn't known.

    Raises StoreError where a side can't be asked.
    """
    key, entry, far = sides
    steps = [RuleAsked("source", _found(entry))]
    if leg.renaming and entry:
        steps.append(RuleAsked("rename", f"It is called {show(key)} there."))
    steps.append(RuleAsked("destination", _found(far)))
    steps.append(RuleAsked("memory", _remembered(row, entry, far)))
    if leg.younger_than and entry and _ask_youngest(key, entry, row, youngest, steps):
        return Explanation(key, steps, left_out(Reason.NOT_YOUNGER))
    why_not = _ask_selection(leg, options, (entry, far, row), now_ns, steps)
    if why_not:
        return Explanation(key, steps, left_out(why_not))
    if entry is None and far is None and row is None:
        steps.append(RuleAsked("verdict", "Nothing of this name is at either side.", decides=True))
        return Explanation(key, steps, None)
    steps.append(RuleAsked("comparison", COMPARISON_WORDS[leg.rules.compare]))
    item = await CloserLook(leg).decide(key, entry, far, row)
    steps.append(RuleAsked("verdict", _verdict_words(item.verdict), decides=True))
    return Explanation(key, steps, item.verdict)


async def _entry_at(side: Side, key: bytes) -> Entry | None:
    try:
        found = await side.store.stat(side.prefix + key)
    except Missing:
        return None
    return found.entry._replace(key=key)


def _found(entry: Entry | None) -> str:
    if entry is None:
        return "It is not there."
    length = size_text(entry.size)
    words = f"It is there: {length}"
    if entry.modified_ns is not None:
        changed = _moment(entry.modified_ns)
        words += f", changed {changed}"
    if entry.fault:
        words += f", and can't be read ({entry.fault})"
    return f"{words}."


def _moment(time_ns: int) -> str:
    at = datetime.fromtimestamp(time_ns / 10**9, UTC)
    return f"{at:%Y-%m-%d %H:%M:%S} UTC"


def _remembered(row: Row | None, entry: Entry | None, far: Entry | None) -> str:
    if row is None:
        return "This job has never carried it."
    words = [f"It was carried before, last by run {row.run}."]
    if entry is not None:
        words.append(_since(entry, row.source, "At the source"))
    if far is not None:
        words.append(_since(far, row.there, "There"))
    return " ".join(words)


def _since(entry: Entry, remembered: str, where: str) -> str:
    """What became of it since the ledger's row was written, in words."""
    like = likeness(entry, remembered)
    if like is Likeness.SAME:
        return f"{where} it is as it was."
    if like is Likeness.TOUCHED:
        return f"{where} it was touched since; its content decides."
    return f"{where} it is another one since."


def _ask_selection(
    leg: LegContext,
    options: JsonObject,
    found: tuple[Entry | None, Entry | None, Row | None],
    now_ns: int,
    steps: list[RuleAsked],
) -> Reason | None:
    """Each rule of the selection by itself; the first that leaves it out is the last asked."""
    for rule, words, selection in _single_rules(options):
        why_not = _why_not(selection, leg, found, now_ns)
        said = "leaves it out" if why_not else "takes it"
        steps.append(RuleAsked(rule, f"{words}: {said}.", decides=why_not is not None))
        if why_not:
            return why_not
    return None


def _ask_youngest(
    key: bytes,
    entry: Entry,
    row: Row | None,
    youngest: YoungestThere | None,
    steps: list[RuleAsked],
) -> bool:
    """Whether it is left out since the youngest file there is as young."""
    rule = "younger_than_there"
    if youngest is None:
        words = "Left out, if the youngest file there is as young: each run looks that up first."
        steps.append(RuleAsked(rule, words))
        return False
    at = youngest.time_for(key)
    if at is None:
        steps.append(RuleAsked(rule, "Nothing is there yet that it could be compared with."))
        return False
    words = f"The youngest file there is of {_moment(at)}"
    if row is not None and row.source == fingerprint(entry):
        steps.append(RuleAsked(rule, f"{words}; it was carried before, so that doesn't matter."))
        return False
    is_older = youngest.leaves_out(key, entry)
    said = "leaves it out" if is_older else "takes it"
    steps.append(RuleAsked(rule, f"{words}: {said}.", decides=is_older))
    return is_older


def _single_rules(options: JsonObject) -> list[tuple[str, str, Selection]]:
    """(rule, its value in words, what it alone selects)."""
    case = {"ignore_case": options.get("ignore_case")}
    found = []
    for rule in ("take", "leave_out"):
        patterns = options.get(rule) or []
        if patterns:
            taken = patterns if rule == "take" else []
            left_out = patterns if rule == "leave_out" else []
            selection = compile_selection(taken, left_out, case)
            found.append((rule, ", ".join(patterns), selection))
    for rule in RULES:
        value = options.get(rule)
        if value and rule != "ignore_case":
            name = rule.replace("_", " ")
            selection = compile_selection([], [], {rule: value})
            found.append((rule, f"{name} {value}", selection))
    return found


def _why_not(
    selection: Selection,
    leg: LegContext,
    found: tuple[Entry | None, Entry | None, Row | None],
    now_ns: int,
) -> Reason | None:
    entry, far, row = found
    if entry is not None:
        return selection.why_not(entry.source_key, entry, now_ns)
    if far is None and row is None:
        return None
    if far is not None:
        key = far.key
    elif row is not None:
        key = row.key
    else:
        key = b""
    if leg.rules.intent is Intent.REMOVE:
        return selection.why_not(key, far, now_ns)
    return selection.why_not_gone(key, row.source if row else "", now_ns)


def _verdict_words(verdict: Verdict) -> str:
    """What was decided, and what would come of it where the decision alone doesn't tell."""
    decision = verdict.decision
    reason = verdict.reason
    words = VERDICT_WORDS.get(reason, reason.value)
    if decision is Decision.REMOVE:
        return f"{words} It would be removed there."
    if decision is Decision.LEAVE and reason in (Reason.GONE, Reason.FOREIGN):
        return f"{words} It stays there."
    if decision is Decision.LEAVE and reason is Reason.EXISTS:
        return f"{words} It stays as it is."
    if decision is Decision.REPLACE and reason is Reason.DIFFERS:
        return f"{words} The one there would be replaced."
    return words
