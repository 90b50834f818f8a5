"""The decision table: what happens to one key, and why. Total, pure, and the same for preview, run
and explain.

`consider` looks at the three things known of a key (source entry, far entry, ledger row) and gives
a verdict, or asks for a closer look when names, sizes and fingerprints can't settle it. The caller
looks, and asks again with the answer.
"""

from __future__ import annotations

from enum import Enum, StrEnum
from typing import NamedTuple

from pinecart.core.entries import Entry, Likeness, Row, likeness, size_of


class Intent(StrEnum):
    TOP_UP = "top-up"
    RENEW = "renew"
    MIRROR = "mirror"
    HAND_OVER = "hand-over"
    REMOVE = "remove"  # of a removal run alone: no job has it


class OnDifference(StrEnum):
    KEEP = "keep"
    REPLACE_CHANGED = "replace-changed"
    REPLACE_ALL = "replace-all"
    KEEP_BOTH = "keep-both"
    REFUSE = "refuse"


class Comparison(StrEnum):
    """How "changed" is decided.

    All but the first look at what lies there now; the ledger then only guards it.
    """

    SINCE_LAST_RUN = "since-last-run"
    SIZE_AND_TIME = "size-and-time"
    CHECKSUM = "checksum"
    SIZE = "size"
    ALWAYS = "always"


class Decision(StrEnum):
    COPY = "copy"
    REPLACE = "replace"
    REMOVE = "remove"
    CLEAR = "clear"
    LEAVE = "leave"
    REFUSE = "refuse"


class Reason(StrEnum):
    NEW = "new"
    CHANGED = "changed"
    MISSING_THERE = "missing-there"
    DIFFERS = "differs"
    UNPROVEN = "unproven"
    SAME = "same"
    RECOGNISED = "recognised"
    EXISTS = "exists"
    CHANGED_THERE = "changed-there"
    BOTH_CHANGED = "both-changed"
    GONE = "gone"
    FOREIGN = "foreign"
    PROVEN = "proven"
    LEFT_OUT = "left-out"
    UNSAFE_NAME = "unsafe-name"
    UNREADABLE = "unreadable"
    NOT_A_FILE = "not-a-file"
    ROW_DROPPED = "row-dropped"
    ALWAYS = "always"
    OTHER_SIZE = "other-size"
    OTHER_TIME = "other-time"
    NAME_CLASH = "name-clash"
    BELOW_A_FILE = "below-a-file"
    ASKED = "asked"
    TOO_YOUNG = "too-young"
    AWAITED = "awaited"
    UNDONE = "undone"
    EXPIRED = "expired"
    LATER = "later"
    OVERTAKEN = "overtaken"
    NOT_YOUNGER = "not-younger"


class SideState(Enum):
    SAME = "="
    DIFFERENT = "≠"
    ABSENT = "∅"


class There(Enum):
    """The far side of a key without a ledger row."""

    ABSENT = "∅"
    EQUAL = "proven equal"
    DIFFERS = "differs"
    UNPROVEN = "equal size, unproven"


class Look(Enum):
    """A question to the caller."""

    SOURCE = "does the source's content still have the remembered checksum?"
    FAR = "is the far object proven equal to the source?"


class LookAnswer(Enum):
    EQUAL = "equal"
    DIFFERS = "differs"
    UNPROVEN = "unproven"


class Verdict(NamedTuple):
    """problem: to be listed as one.   decision LEAVE with ROW_DROPPED: only the ledger changes."""

    decision: Decision
    reason: Reason
    problem: bool = False


class Rules(NamedTuple):
    intent: Intent = Intent.RENEW
    on_difference: OnDifference = OnDifference.REPLACE_CHANGED
    compare: Comparison = Comparison.SINCE_LAST_RUN


_LEAVE_SAME = Verdict(Decision.LEAVE, Reason.SAME)
_LEAVE_GONE = Verdict(Decision.LEAVE, Reason.GONE)
_EXISTS = Verdict(Decision.LEAVE, Reason.EXISTS)
_RECOGNISED = Verdict(Decision.LEAVE, Reason.RECOGNISED)
_CHANGED_THERE = Verdict(Decision.LEAVE, Reason.CHANGED_THERE, problem=True)
_BOTH_CHANGED = Verdict(Decision.REFUSE, Reason.BOTH_CHANGED, problem=True)

S = SideState.SAME
D = SideState.DIFFERENT
A = SideState.ABSENT
_KNOWN: dict[tuple[SideState, SideState], Verdict] = {
    (S, S): _LEAVE_SAME,
    (S, D): _CHANGED_THERE,
    (S, A): Verdict(Decision.COPY, Reason.MISSING_THERE),
    (D, S): Verdict(Decision.REPLACE, Reason.CHANGED),
    (D, D): _BOTH_CHANGED,
    (D, A): Verdict(Decision.COPY, Reason.CHANGED),
    (A, S): _LEAVE_GONE,
    (A, D): _LEAVE_GONE,
    (A, A): Verdict(Decision.LEAVE, Reason.ROW_DROPPED),
}
_KNOWN_BY_INTENT: dict[tuple[Intent, SideState, SideState], Verdict] = {
    (Intent.TOP_UP, D, S): _EXISTS,
    (Intent.MIRROR, A, S): Verdict(Decision.REMOVE, Reason.GONE),
    (Intent.MIRROR, A, D): Verdict(Decision.REFUSE, Reason.CHANGED_THERE, problem=True),
    (Intent.HAND_OVER, S, S): Verdict(Decision.CLEAR, Reason.PROVEN),
}
_UNKNOWN: dict[There, Verdict] = {
    There.ABSENT: Verdict(Decision.COPY, Reason.NEW),
    There.EQUAL: _RECOGNISED,
    There.DIFFERS: Verdict(Decision.REPLACE, Reason.DIFFERS),
    There.UNPROVEN: Verdict(Decision.REPLACE, Reason.UNPROVEN),
}
_UNKNOWN_BY_INTENT: dict[tuple[Intent, There], Verdict] = {
    (Intent.TOP_UP, There.DIFFERS): _EXISTS,
    (Intent.TOP_UP, There.UNPROVEN): Verdict(Decision.LEAVE, Reason.UNPROVEN),
    (Intent.HAND_OVER, There.EQUAL): Verdict(Decision.CLEAR, Reason.RECOGNISED),
}
_FAULTS = {
    "unsafe-name": Verdict(Decision.REFUSE, Reason.UNSAFE_NAME, problem=True),
    "unreadable": Verdict(Decision.REFUSE, Reason.UNREADABLE, problem=True),
    "not-a-file": Verdict(Decision.REFUSE, Reason.NOT_A_FILE, problem=True),
    "name-clash": Verdict(Decision.REFUSE, Reason.NAME_CLASH, problem=True),
    "below-a-file": Verdict(Decision.REFUSE, Reason.BELOW_A_FILE, problem=True),
}


def decide_known(source: SideState, there: SideState, rules: Rules) -> Verdict:
    """The table's left half: a key with a ledger row."""
    verdict = _KNOWN_BY_INTENT.get((rules.intent, source, there)) or _KNOWN[source, there]
    return _by_choice(verdict, rules)


def decide_unknown(source: bool, there: There, rules: Rules) -> Verdict:
    """The table's right half: a key without a ledger row. Without a source, `there` is known to be
    present.
    """
    if not source:
        if rules.intent is Intent.MIRROR:
            return Verdict(Decision.REMOVE, Reason.FOREIGN)
        if rules.intent is Intent.REMOVE:
            return Verdict(Decision.REMOVE, Reason.ASKED)
        return Verdict(Decision.LEAVE, Reason.FOREIGN)
    of_intent = _UNKNOWN_BY_INTENT.get((rules.intent, there))
    verdict = of_intent or _UNKNOWN[there]
    return _by_choice(verdict, rules)


def decide_cleared(source: bool, there: SideState, *, proven: bool, rules: Rules) -> Verdict:
    """A key whose source was cleared after proof: nothing ever removes or silently replaces what is
    there.
    """
    if not source:
        return _LEAVE_GONE
    if there is SideState.ABSENT:
        return Verdict(Decision.COPY, Reason.NEW)
    if proven:
        return _UNKNOWN_BY_INTENT.get((rules.intent, There.EQUAL)) or _RECOGNISED
    if rules.on_difference is OnDifference.KEEP_BOTH:
        return Verdict(Decision.COPY, Reason.EXISTS)
    return Verdict(Decision.REFUSE, Reason.EXISTS, problem=True)


def _by_choice(verdict: Verdict, rules: Rules) -> Verdict:
    """What the job chose for a name that exists and differs."""
    contested = verdict.decision is Decision.REPLACE or verdict in (_CHANGED_THERE, _BOTH_CHANGED)
    if not contested:
        return verdict
    match rules.on_difference:
        case OnDifference.KEEP:
            return _EXISTS
        case OnDifference.REPLACE_ALL if rules.intent is not Intent.TOP_UP:
            return Verdict(Decision.REPLACE, verdict.reason)
        case OnDifference.KEEP_BOTH if rules.intent is not Intent.TOP_UP:
            return Verdict(Decision.COPY, Reason.EXISTS)
        case OnDifference.REFUSE:
            return Verdict(Decision.REFUSE, Reason.EXISTS, problem=True)
    return verdict


def consider(
    entry: Entry | None,
    far: Entry | None,
    row: Row | None,
    rules: Rules,
    *,
    source_look: LookAnswer | None = None,
    far_look: LookAnswer | None = None,
) -> Verdict | Look:
    """The verdict on one key, or the question that has to be answered first.

    Selection comes before this.
    """
    if entry is not None and entry.fault:
        return _FAULTS[entry.fault]
    if entry is None and far is not None and far.fault:
        return Verdict(
            Decision.LEAVE, Reason.FOREIGN
        )  # a link or a folder that can't be entered: nobody's to remove
    if entry is not None and far is not None and entry.is_folder and far.is_folder:
        return _LEAVE_SAME if row else _RECOGNISED
    if row is not None and row.cleared:
        return _consider_cleared(entry, far, row, rules, far_look)
    if entry is not None and far is not None and rules.compare is not Comparison.SINCE_LAST_RUN:
        return _consider_now(entry, far, row, rules, far_look)
    if row is None:
        return _consider_unknown(entry, far, rules, far_look)
    source = _source_side(entry, row, source_look)
    if isinstance(source, Look):
        return source
    if far is None:
        return decide_known(source, SideState.ABSENT, rules)
    if likeness(far, row.there) is Likeness.SAME:
        return decide_known(source, SideState.SAME, rules)
    return _consider_far_changed(entry, far, row, source, rules, far_look)


def _consider_far_changed(
    entry: Entry | None,
    far: Entry,
    row: Row,
    source: SideState,
    rules: Rules,
    look: LookAnswer | None,
) -> Verdict | Look:
    """Every "there differs" is tried for recognition first; against the remembered content if the
    source is gone.
    """
    wanted = size_of(row.there) if entry is None else entry.size
    if far.size == wanted and look is None and (entry is not None or rules.intent is Intent.MIRROR):
        return Look.FAR
    if far.size == wanted and look is LookAnswer.EQUAL:
        if entry is None:
            return decide_known(source, SideState.SAME, rules)
        return decide_unknown(True, There.EQUAL, rules)
    return decide_known(source, SideState.DIFFERENT, rules)


def _source_side(entry: Entry | None, row: Row, look: LookAnswer | None) -> SideState | Look:
    if entry is None:
        return SideState.ABSENT
    like = likeness(entry, row.source)
    if like is Likeness.DIFFERENT:
        return SideState.DIFFERENT
    if like is Likeness.SAME and not row.racy:
        return SideState.SAME
    if look is None:
        return Look.SOURCE
    if look is LookAnswer.EQUAL:
        return SideState.SAME
    return SideState.DIFFERENT


def _consider_unknown(
    entry: Entry | None, far: Entry | None, rules: Rules, look: LookAnswer | None
) -> Verdict | Look:
    if far is None:
        return decide_unknown(True, There.ABSENT, rules)
    if entry is None:
        return decide_unknown(False, There.DIFFERS, rules)
    if entry.size != far.size:
        return decide_unknown(True, There.DIFFERS, rules)
    if look is None:
        return Look.FAR
    there = {
        LookAnswer.EQUAL: There.EQUAL,
        LookAnswer.DIFFERS: There.DIFFERS,
        LookAnswer.UNPROVEN: There.UNPROVEN,
    }[look]
    return decide_unknown(True, there, rules)


def _consider_now(
    entry: Entry, far: Entry, row: Row | None, rules: Rules, look: LookAnswer | None
) -> Verdict | Look:
    """Both are there, and the job decides by what they are now.

    Somebody's change there is guarded all the same.
    """
    if row is None or likeness(far, row.there) is Likeness.SAME:
        there = SideState.SAME
    else:
        there = SideState.DIFFERENT
    if rules.compare is Comparison.ALWAYS or entry.size != far.size:
        look = LookAnswer.DIFFERS
    elif rules.compare is Comparison.SIZE:
        return _LEAVE_SAME
    if look is None:
        return Look.FAR
    if look is LookAnswer.EQUAL:
        known = (
            row is not None
            and there is SideState.SAME
            and likeness(entry, row.source) is Likeness.SAME
        )
        if known:
            return decide_known(SideState.SAME, SideState.SAME, rules)
        return decide_unknown(True, There.EQUAL, rules)
    if row is None:
        verdict = decide_unknown(
            True, There.DIFFERS if look is LookAnswer.DIFFERS else There.UNPROVEN, rules
        )
    else:
        if there is SideState.DIFFERENT and likeness(entry, row.source) is Likeness.SAME:
            source = SideState.SAME
        else:
            source = SideState.DIFFERENT
        verdict = decide_known(source, there, rules)
    if rules.compare is Comparison.ALWAYS and verdict.decision is Decision.REPLACE:
        return Verdict(Decision.REPLACE, Reason.ALWAYS)
    return verdict


def _consider_cleared(
    entry: Entry | None, far: Entry | None, row: Row, rules: Rules, look: LookAnswer | None
) -> Verdict | Look:
    if entry is not None and far is not None and entry.size == far.size and look is None:
        return Look.FAR
    if far is None:
        there = SideState.ABSENT
    elif likeness(far, row.there) is Likeness.SAME:
        there = SideState.SAME
    else:
        there = SideState.DIFFERENT
    return decide_cleared(entry is not None, there, proven=look is LookAnswer.EQUAL, rules=rules)


def left_out(reason: Reason) -> Verdict:
    """What selection says of a key that it does not take."""
    return Verdict(Decision.LEAVE, reason)
