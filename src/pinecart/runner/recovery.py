"""What a run that died had meant: known by its journal, proven by what lies there, recorded."""

from __future__ import annotations

import contextlib

from pinecart.core.decide import Decision, Reason, Verdict
from pinecart.core.entries import Aside, fingerprint
from pinecart.core.errors import Missing
from pinecart.core.places import original_key
from pinecart.core.ports import Folders
from pinecart.runner.decided_items import Item
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.object_transfer import REPLACED, decision_id
from pinecart.runner.records import Record


class Recovery:
    """Of one leg. Ask `settle` first; afterwards each object that lies there can be asked about."""

    def __init__(self, leg: LegContext, ledger: Ledger, tally: LegTally) -> None:
        self._leg, self._ledger, self._tally = leg, ledger, tally
        self._intended: dict[bytes, tuple[str, str]] = {}  # key → decision, reason
        self._set_aside: dict[bytes, Aside] = {}  # at the target

    async def settle(self) -> None:
        """What was journalled and has happened is recorded; the rest is planned again."""
        meant = await self._ledger.meant(self._leg.number)
        self._set_aside = {aside.key: aside for aside in meant if aside.side == "target"}
        self._intended = await self._ledger.intended(self._leg.number)
        await self._sweep_half_written(meant)
        for aside in meant:
            if (kept := await self._taken_away(aside)) is not None:
                await self._record_taken(aside, kept)
        await self._tally.flush()

    async def _sweep_half_written(self, meant: list[Aside]) -> None:
        """Where objects go to, and where they are set aside."""
        keys = {"source": list[bytes](), "target": list[bytes]()}
        keys["target"] += [self._leg.target.prefix + key for key in self._intended]
        for aside in meant:
            keys[aside.side].append(aside.at)
        for name, side in (("source", self._leg.source), ("target", self._leg.target)):
            folders = {key.rpartition(b"/")[0] for key in keys[name]}
            if folders and isinstance(side.store, Folders):
                await side.store.sweep(folders)

    async def _taken_away(self, aside: Aside) -> str | None:
        """The fingerprint of what was set aside, if what it came from is gone; None: it isn't."""
        side = self._leg.source if aside.side == "source" else self._leg.target
        whole = aside.at if aside.version else original_key(side.store.home(aside.at), aside.at)
        try:
            kept = (await side.store.stat(aside.at, aside.version)).entry
        except Missing:
            return None
        return fingerprint(kept) if await side.store.is_absent(whole) else None

    async def _record_taken(self, aside: Aside, kept: str) -> None:
        cleared = aside.side == "source"
        decision, reason = (
            (Decision.CLEAR, Reason.PROVEN) if cleared else (Decision.REMOVE, Reason.GONE)
        )
        record = Record(
            aside.leg, aside.key, decision.value, reason.value, aside.size, guarded=False, kept=kept
        )
        await self._tally.add(record)
        self._tally.acted += 1

    async def own_write(self, item: Item) -> Item | None:
        """What lies there as the decision it came from, if this very run has put it there."""
        assert item.entry is not None and item.far is not None
        if self._leg.only_plan:
            return None
        if known := self._intended.get(item.key):
            return item._replace(verdict=Verdict(Decision(known[0]), Reason(known[1])))
        target = self._leg.target
        if not (await target.store.abilities(target.prefix)).keeps_metadata:
            return None
        stamp = (await target.store.stat(target.prefix + item.key)).card
        own = decision_id(self._leg.run, self._leg.number, item.entry)
        if not stamp or stamp.decision_id.removesuffix(REPLACED) != own:
            return None
        replaced = stamp.decision_id.endswith(REPLACED)
        decision = Decision.REPLACE if replaced else Decision.COPY
        reason = Reason.NEW if item.row is None else Reason.CHANGED
        return item._replace(verdict=Verdict(decision, reason))

    async def kept_before(self, key: bytes) -> str:
        """The fingerprint of what was set aside of it before; empty: nothing was."""
        aside = self._set_aside.get(key)
        if aside is not None:
            with contextlib.suppress(Missing):
                return fingerprint(
                    (await self._leg.target.store.stat(aside.at, aside.version)).entry
                )
        return ""
