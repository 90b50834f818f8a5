"""What a run that died had meant: known by its journal, proven by what lies there, recorded."""

from __future__ import annotations

import contextlib

from pinecart.core.decide import Decision, Reason, Verdict
from pinecart.core.entries import Aside, fingerprint
from pinecart.core.errors import Missing
from pinecart.core.places import original_key
from pinecart.core.ports import Folders
from pinecart.runner.decided_items import Item
from pinecart.runner.decision_ids import REPLACED, decision_id
from pinecart.runner.leg_context import Ledger, LegContext
from pinecart.runner.leg_tally import LegTally
from pinecart.runner.older_versions import OlderVersions
from pinecart.runner.records import Record


class Recovery:
    """Of one leg. Ask `settle` first; afterwards each object that lies there can be asked about."""

    def __init__(self, leg: LegContext, ledger: Ledger, tally: LegTally) -> None:
        """What the dead run had meant is read from the ledger, and what it had set aside, both by
        key.
        """
        self._leg = leg
        self._ledger = ledger
        self._tally = tally
        self._intended: dict[bytes, tuple[str, str]] = {}  # key → decision, reason
        self._set_aside: dict[bytes, Aside] = {}  # at the target

    async def settle(self) -> None:
        """What was journalled and has happened is recorded; the rest is planned again."""
        meant = await self._ledger.meant(self._leg.number)
        self._set_aside = {aside.key: aside for aside in meant if aside.side == "target"}
        self._intended = await self._ledger.intended(self._leg.number)
        await self._sweep_half_written(meant)
        for aside in meant:
            kept = await self._taken_away(aside)
            if kept is not None:
                await self._record_taken(aside, kept)
        await self._tally.flush()

    async def _sweep_half_written(self, meant: list[Aside]) -> None:
        """Where objects go to, and where they are set aside."""
        source = self._leg.source
        target = self._leg.target
        at_source = [aside.at for aside in meant if aside.side == "source"]
        at_target = [aside.at for aside in meant if aside.side == "target"]
        at_target += [target.prefix + key for key in self._intended]
        for store, keys in ((source.store, at_source), (target.store, at_target)):
            folders = {key.rpartition(b"/")[0] for key in keys}
            if folders and isinstance(store, Folders):
                await store.sweep(folders)

    async def _taken_away(self, aside: Aside) -> str | None:
        """The fingerprint of what was set aside, if what it came from is gone; None: it isn't."""
        side = self._leg.source if aside.side == "source" else self._leg.target
        store = side.store
        at = aside.at
        whole = at if aside.version else original_key(store.home(at), at)
        try:
            kept = await store.stat(at, aside.version)
        except Missing:
            return None
        if not await store.is_absent(whole):
            return None
        return fingerprint(kept.entry)

    async def _record_taken(self, aside: Aside, kept: str) -> None:
        cleared = aside.side == "source"
        if cleared:
            decision = Decision.CLEAR
            reason = Reason.PROVEN
        else:
            decision = Decision.REMOVE
            reason = Reason.GONE
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
        known = self._intended.get(item.key)
        if known:
            decision, reason = known
            return item._replace(verdict=Verdict(Decision(decision), Reason(reason)))
        leg = self._leg
        target = self._leg.target
        able = await target.store.abilities(target.prefix)
        if not able.keeps_metadata:
            return None
        found = await target.store.stat(target.prefix + item.key)
        written_by = found.card.decision_id if found.card else ""
        own = decision_id(leg.run, leg.number, item.entry)
        if written_by.removesuffix(REPLACED) != own:
            return None
        replaced = written_by.endswith(REPLACED)
        did = Decision.REPLACE if replaced else Decision.COPY
        why = Reason.NEW if item.row is None else Reason.CHANGED
        return item._replace(verdict=Verdict(did, why))

    async def series_gone_on_with(self, item: Item) -> Item:
        """With the decision it came from, if what lies there is an older version that this very run
        has put there on its way to the present one.
        """
        known = self._intended.get(item.key)
        if not known or item.entry is None or item.far is None or self._leg.only_plan:
            return item
        if not await OlderVersions(self._leg, self._ledger).has_begun(item):
            return item
        decision, reason = known
        return item._replace(verdict=Verdict(Decision(decision), Reason(reason)))

    async def kept_before(self, key: bytes) -> str:
        """The fingerprint of what was set aside of it before; empty: nothing was."""
        aside = self._set_aside.get(key)
        if aside is not None:
            with contextlib.suppress(Missing):
                return fingerprint(
                    (await self._leg.target.store.stat(aside.at, aside.version)).entry
                )
        return ""
