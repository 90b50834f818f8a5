"""What a decision needs to know beyond listings and memory: contents, permissions, attributes."""

from __future__ import annotations

from pinecart.core.decide import Look, LookAnswer, consider
from pinecart.core.entries import Entry, Row
from pinecart.core.keeping import Keep
from pinecart.runner.content_comparison import Pair, compare_contents, content_crc, extra_of
from pinecart.runner.decided_items import Item
from pinecart.runner.leg_context import LegContext


class CloserLook:
    """Answers core's questions about one key, by asking both stores."""

    def __init__(self, leg: LegContext) -> None:
        self._leg = leg

    async def decide(
        self, key: bytes, entry: Entry | None, far: Entry | None, row: Row | None
    ) -> Item:
        """Ask until core gives its verdict. Raises StoreError where an answer can't be had."""
        answers: dict[str, LookAnswer] = {}
        crc = row.crc if row else ""
        while True:
            verdict = consider(entry, far, row, self._leg.rules, **answers)
            if verdict is Look.SOURCE:
                assert entry is not None and row is not None
                answers["source_look"] = await self._source_against_memory(key, entry, far, row)
            elif verdict is Look.FAR:
                assert far is not None
                answers["far_look"], crc = await self._far_against_source(key, entry, far, row)
            else:
                return Item(key, entry, far, row, verdict, crc)

    async def _source_against_memory(
        self, key: bytes, entry: Entry, far: Entry | None, row: Row
    ) -> LookAnswer:
        """By what it held when it was placed: the far side needn't be read where the ledger knows
        its checksum.
        """
        source = self._leg.source
        now = await content_crc(source.store, source.prefix + entry.source_key, entry)
        if now != row.crc or (far and await self._has_other_extras(key, entry, far)):
            return LookAnswer.DIFFERS
        return LookAnswer.EQUAL

    async def _has_other_extras(self, key: bytes, entry: Entry, far: Entry) -> bool:
        """Whether permissions or attributes that the job keeps are others than the ones there."""
        source = self._leg.source
        target = self._leg.target
        wanted = self._leg.keep
        keep = Keep(wanted.permissions, wanted.attributes)
        if not any(keep) or entry.is_link:
            return False
        source_key = source.prefix + entry.source_key
        far_key = target.prefix + key
        here = await extra_of(source.store, source_key, entry, keep)
        there = await extra_of(target.store, far_key, far, keep)
        same_mode = here.mode == there.mode
        return not same_mode or here.attributes != there.attributes

    async def _far_against_source(
        self, key: bytes, entry: Entry | None, far: Entry, row: Row | None
    ) -> tuple[LookAnswer, str]:
        """The answer, and the checksum of what lies there."""
        source = self._leg.source
        target = self._leg.target
        far_key = target.prefix + key
        if entry is None:
            assert row is not None
            now = await content_crc(target.store, far_key, far)
            is_equal = now == row.crc
            return (LookAnswer.EQUAL if is_equal else LookAnswer.DIFFERS), now
        source_key = source.prefix + entry.source_key
        pair = Pair(source.store, source_key, entry, target.store, far_key, far)
        return await compare_contents(pair, self._leg.rules.compare)
