"""The closer looks that core asks for: is this content still what is remembered; is what lies there equal to the source?

Proof is a checksum that both sides have, or the source's time kept with the far object. Equal size is none.
"""

from __future__ import annotations

from pinecart.core.checksum import Crc64
from pinecart.core.decide import Answer
from pinecart.core.entries import Entry
from pinecart.core.ports import Store


async def content_crc(store: Store, key: bytes, entry: Entry) -> str:
    """CRC-64/NVME of an object's content, read now. Raises Changed if it changes meanwhile."""
    crc = Crc64()
    async with store.open(key, entry) as reading:
        async for chunk in reading.chunks():
            crc.add(chunk)
        await reading.verify()
    return crc.text


async def known_crc(store: Store, key: bytes, entry: Entry) -> tuple[str, int | None]:
    """A content's checksum and its source time as cheaply as can be had: a bucket's by asking, a folder's by reading."""
    if entry.inode:
        return await content_crc(store, key, entry), entry.modified_ns
    stat = await store.stat(key)
    if stat.crc:
        return stat.crc, stat.card.modified_ns if stat.card else None
    if stat.card:
        return stat.card.crc, stat.card.modified_ns
    return "", None


async def compare_contents(
    source: Store, source_key: bytes, entry: Entry, far: Store, far_key: bytes, far_entry: Entry
) -> tuple[Answer, str]:
    """Whether two objects of equal size are equal, and the checksum that proved it (empty: the time did)."""
    far_crc, far_time = await known_crc(far, far_key, far_entry)
    if not far_entry.inode and entry.inode and far_time is not None and far_time == entry.modified_ns:
        return Answer.EQUAL, far_crc
    source_crc, source_time = await known_crc(source, source_key, entry)
    if source_crc and far_crc:
        return (Answer.EQUAL if source_crc == far_crc else Answer.DIFFERS), source_crc
    if far_entry.inode and source_time is not None and source_time == far_time:
        return Answer.EQUAL, far_crc
    return Answer.UNPROVEN, ""
