"""The closer looks that core asks for: is this content still what is remembered; is what lies there
equal to the source?

Proof is a checksum that both sides have, or the source's time kept with the far object. Equal size
is none.
"""

from __future__ import annotations

from typing import NamedTuple

from pinecart.core.checksum import Crc64
from pinecart.core.decide import Comparison, LookAnswer
from pinecart.core.entries import Entry
from pinecart.core.keeping import Extra, Keep, from_metadata
from pinecart.core.ports import Abilities, OwnSums, Store

TIME_STEP_NS = 1_000_000


async def content_crc(store: Store, key: bytes, entry: Entry) -> str:
    """CRC-64/NVME of an object's content, read now. Raises Changed if it changes meanwhile."""
    crc = Crc64()
    async with store.open(key, entry) as reading:
        async for chunk in reading.chunks():
            crc.add(chunk)
        await reading.verify()
    return crc.text


async def known_crc(store: Store, key: bytes, entry: Entry) -> tuple[str, int | None]:
    """A content's checksum and its source time as cheaply as can be had: a bucket's by asking, a
    folder's by reading.
    """
    if (await abilities_at(store, key)).at_hand:
        return await content_crc(store, key, entry), entry.modified_ns
    stat = await store.stat(key)
    if stat.crc:
        return stat.crc, stat.card.modified_ns if stat.card else None
    if stat.card:
        return stat.card.crc, stat.card.modified_ns
    return "", entry.modified_ns if (await abilities_at(store, key)).keeps_times else None


async def abilities_at(store: Store, key: bytes) -> Abilities:
    return await store.abilities(key.rpartition(b"/")[0])


async def extra_of(store: Store, key: bytes, entry: Entry, keep: Keep) -> Extra:
    """The permissions and attributes of an object, as a folder has them or a bucket keeps them."""
    if (await abilities_at(store, key)).keeps_metadata:
        return from_metadata((await store.stat(key)).metadata, keep)
    async with store.open(key, entry) as reading:
        return await reading.besides(keep)


class Pair(NamedTuple):
    """Two objects of equal size, each in its store."""

    source: Store
    source_key: bytes
    entry: Entry
    far: Store
    far_key: bytes
    far_entry: Entry


async def compare_contents(pair: Pair, by: Comparison) -> tuple[LookAnswer, str]:
    """Whether the two are equal, by what the job compares, and the checksum that proved it (empty:
    the time did, or one of the stores' own making).
    """
    if by is Comparison.CHECKSUM:
        return await _by_content(pair)
    far_crc, far_time = await known_crc(pair.far, pair.far_key, pair.far_entry)
    entry = pair.entry
    here = await abilities_at(pair.source, pair.source_key)
    there = await abilities_at(pair.far, pair.far_key)
    if (
        here.at_hand
        and not there.at_hand
        and far_time is not None
        and _same_time(far_time, entry.modified_ns)
    ):
        return LookAnswer.EQUAL, far_crc  # without reading it
    source_crc, source_time = await known_crc(pair.source, pair.source_key, entry)
    if by is Comparison.SIZE_AND_TIME:
        step_ns = await _time_step(pair)
    else:
        step_ns = TIME_STEP_NS
    times_equal = _same_time(source_time, far_time, step_ns)
    if by is Comparison.SIZE_AND_TIME:
        if times_equal:
            return (LookAnswer.EQUAL, far_crc)
        return (LookAnswer.DIFFERS, "")
    if source_crc and far_crc:
        return (LookAnswer.EQUAL if source_crc == far_crc else LookAnswer.DIFFERS), source_crc
    if times_equal:
        return (LookAnswer.EQUAL, far_crc)
    return (LookAnswer.UNPROVEN, "")


def _same_time(a: int | None, b: int | None, step_ns: int = TIME_STEP_NS) -> bool:
    return a is not None and b is not None and abs(a - b) < step_ns


async def _time_step(pair: Pair) -> int:
    """Times nearer than this may be the same one: the coarser clock of the two places decides."""
    steps = [
        (await abilities_at(s, k)).time_step_ns
        for s, k in ((pair.source, pair.source_key), (pair.far, pair.far_key))
    ]
    return max(TIME_STEP_NS, *steps)


async def _by_content(pair: Pair) -> tuple[LookAnswer, str]:
    """By checksum: as both stores make it themselves, where that proves the two equal; else a
    bucket's is asked for, and where it tells none its content is read as well.
    """
    if await _own_sums_are_equal(pair):
        return LookAnswer.EQUAL, ""
    here = await _crc_there(pair.source, pair.source_key, pair.entry)
    there = await _crc_there(pair.far, pair.far_key, pair.far_entry)
    if here == there:
        return LookAnswer.EQUAL, here
    return LookAnswer.DIFFERS, here


async def _own_sums_are_equal(pair: Pair) -> bool:
    """Of the stores' own making, without a byte of content; False where one has none."""
    source = pair.source
    far = pair.far
    if not (isinstance(source, OwnSums) and isinstance(far, OwnSums)):
        return False
    here = await source.own_sum(pair.source_key, pair.entry)
    if here is None:
        return False
    there = await far.own_sum(pair.far_key, pair.far_entry)
    return here == there


async def _crc_there(store: Store, key: bytes, entry: Entry) -> str:
    """As the store vouches for it, or of the content as read."""
    able = await abilities_at(store, key)
    if not able.at_hand:
        stat = await store.stat(key)
        if stat.crc:
            return stat.crc
    return await content_crc(store, key, entry)
